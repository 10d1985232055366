import { Box, Checkbox, Field, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { api, client, type Export, taken, useExports } from '../api/client';
import { useAsk } from '../parts/effect';
import { AddIcon, GateIcon } from '../parts/icons';
import { Labels } from '../parts/labels';
import { named, Rules } from '../parts/rules';
import { MainButton, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { say, sayRefused } from '../parts/toaster';

const refresh = async () => {
  await client.invalidateQueries({ queryKey: ['exports'] });
  await client.invalidateQueries({ queryKey: ['folders'] });
  await client.invalidateQueries({ queryKey: ['connect'] });
};

/** The exports of a folder: who may mount it over NFS, and on what terms. */
export function Exports({ folder, mayChange }: { folder: string; mayChange: boolean }) {
  const exports = useExports();
  const [adding, setAdding] = useState(false);
  if (!exports.data) return <Waiting error={exports.error} />;
  const ours = exports.data.filter((e) => e.folder === folder);
  return (
    <>
      <Text color="faint" fontSize="sm" mb="4">
        {ours.length === 0
          ? t`It is not published over NFS.`
          : t`Rules are tried in their order. The first that matches a client decides; whom none matches learns nothing.`}
      </Text>
      <Stack gap="4">
        {ours.map((e) => (
          <ExportSheet key={e.path} exported={e} mayChange={mayChange} />
        ))}
        {adding && <AddExport folder={folder} onDone={() => setAdding(false)} />}
      </Stack>
      {mayChange && !adding && (
        <QuietButton mt="4" onClick={() => setAdding(true)}>
          <AddIcon /> <Trans>Publish over NFS</Trans>
        </QuietButton>
      )}
    </>
  );
}

function ExportSheet({ exported: e, mayChange }: { exported: Export; mayChange: boolean }) {
  const [setAsking, dialog] = useAsk(
    <Text>
      <Trans>
        Whoever has <b>{e.path}</b> mounted feels it at once. The folder and its data stay.
      </Trans>
    </Text>,
  );
  const path = { name: named(e.path) };
  const of = { name: named(e.path) };
  const change = useMutation({
    mutationFn: (body: { sync: boolean }) => taken(api.PATCH('/api/v1/exports/{name}', { params: { path }, body })),
    onSuccess: refresh,
    onError: sayRefused,
  });
  const option = (label: string, on: boolean, set: (on: boolean) => void) => (
    <Checkbox.Root
      size="sm"
      checked={on}
      disabled={!mayChange || change.isPending}
      onCheckedChange={(v) => set(v.checked === true)}
    >
      <Checkbox.HiddenInput />
      <Checkbox.Control />
      <Checkbox.Label>{label}</Checkbox.Label>
    </Checkbox.Root>
  );
  return (
    <Sheet as="section" aria-label={e.path}>
      <Flex px="4" py="2.5" bg="sunk" justify="space-between" align="center" gap="3" wrap="wrap">
        <Box>
          <Text fontFamily="mono" fontSize="sm" fontWeight="600">
            {e.path}
          </Text>
          <Text color="faint" fontSize="sm">
            {[e.below && t`from ${e.below} on`, e.description, !e.on && t`NFS is switched off`]
              .filter(Boolean)
              .join(', ')}
          </Text>
          <Labels labels={e.labels} />
        </Box>
        {mayChange && (
          <QuietButton
            size="sm"
            bg="sheet"
            onClick={() =>
              setAsking({
                title: t`End this publication?`,
                act: t`End it`,
                done: t`${e.path} is no longer published.`,
                changes: [{ kind: 'export', act: 'remove', of }],
              })
            }
          >
            <Trans>End publication</Trans>
          </QuietButton>
        )}
      </Flex>
      <Rules list={{ export: e.path }} rules={e.rules} inForce={e.inForce} mayChange={mayChange} />
      <Flex px="4" py="3" borderTopWidth="1px" borderColor="line" gap="6" wrap="wrap">
        {option(t`every write is on disk before it is answered`, e.sync, (sync) => change.mutate({ sync }))}
        {option(t`groups as the client lists them, not as in the records`, e.clientGroups, (clientGroups) =>
          setAsking({
            title: clientGroups ? t`Take the word of clients about groups?` : t`Go by the groups of the records?`,
            act: t`Change it`,
            done: t`Changed: ${e.path}.`,
            changes: [{ kind: 'export', act: 'change', of, with: { clientGroups } }],
          }),
        )}
      </Flex>
      <Try exported={e.path} />
      {dialog}
    </Sheet>
  );
}

/** Which rule would apply to an address. */
function Try({ exported }: { exported: string }) {
  const { register, handleSubmit } = useForm<{ from: string }>();
  const tried = useMutation({
    mutationFn: (from: string) =>
      taken(api.GET('/api/v1/exports/{name}/test', { params: { path: { name: named(exported) }, query: { from } } })),
  });
  const answer = tried.data;
  return (
    <Box px="4" py="3" borderTopWidth="1px" borderColor="line">
      <HStack as="form" gap="3" onSubmit={handleSubmit((f) => tried.mutate(f.from.trim()))}>
        <Input
          aria-label={t`Address to try on ${exported}`}
          size="sm"
          maxW="56"
          placeholder={t`address or host`}
          autoComplete="off"
          {...register('from', { required: true })}
        />
        <QuietButton size="sm" type="submit" loading={tried.isPending}>
          <Trans>Which rule applies?</Trans>
        </QuietButton>
      </HStack>
      <Box aria-live="polite">
        {tried.error && (
          <Box mt="3">
            <Refused error={tried.error} />
          </Box>
        )}
        {answer && !tried.error && (
          <HStack mt="3" gap="3" align="start">
            <GateIcon open={answer.lets} boxSize="6" color={answer.lets ? 'open' : 'shut'} />
            <Text fontSize="sm">
              <b>
                {answer.lets
                  ? t`Line ${answer.rule?.number ?? ''} lets ${answer.address} in`
                  : t`${answer.address} is not let in`}
              </b>
              : {answer.reason}.{answer.rule && <Text color="faint">{answer.rule.terms}</Text>}
            </Text>
          </HStack>
        )}
      </Box>
    </Box>
  );
}

function AddExport({ folder, onDone }: { folder: string; onDone: () => void }) {
  const { register, handleSubmit } = useForm<{ path: string; below: string; description: string }>({
    defaultValues: { path: `/${folder}`, below: '', description: '' },
  });
  const add = useMutation({
    mutationFn: (f: { path: string; below: string; description: string }) =>
      taken(
        api.POST('/api/v1/exports', {
          body: {
            folder: f.below.trim() ? `${folder}/${f.below.trim()}` : folder,
            path: f.path.trim(),
            description: f.description.trim() || undefined,
          },
        }),
      ),
    onSuccess: async (e) => {
      await refresh();
      say(t`Published as ${e.path}. Nobody may mount it before it has a client rule.`);
      onDone();
    },
  });
  return (
    <Sheet as="form" p="4" onSubmit={handleSubmit((f) => add.mutate(f))}>
      {add.error && (
        <Box mb="4">
          <Refused error={add.error} />
        </Box>
      )}
      <Flex gap="3" wrap="wrap" align="end">
        <Field.Root w="56">
          <Field.Label>
            <Trans>What clients mount</Trans>
          </Field.Label>
          <Input fontFamily="mono" fontSize="sm" autoComplete="off" {...register('path', { required: true })} />
        </Field.Root>
        <Field.Root w="56">
          <Field.Label>
            <Trans>Only from here on</Trans>
          </Field.Label>
          <Input
            fontFamily="mono"
            fontSize="sm"
            autoComplete="off"
            placeholder={t`path in the folder`}
            {...register('below')}
          />
        </Field.Root>
        <Field.Root flex="1" minW="40">
          <Field.Label>
            <Trans>Description</Trans>
          </Field.Label>
          <Input maxLength={200} {...register('description')} />
        </Field.Root>
      </Flex>
      <HStack mt="4" justify="end">
        <QuietButton size="sm" onClick={onDone}>
          <Trans>Cancel</Trans>
        </QuietButton>
        <MainButton size="sm" type="submit" loading={add.isPending}>
          <Trans>Publish</Trans>
        </MainButton>
      </HStack>
    </Sheet>
  );
}
