import { Box, Checkbox, Field, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
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
          ? 'It is not published over NFS.'
          : 'Rules are tried in their order. The first that matches a client decides; whom none matches learns nothing.'}
      </Text>
      <Stack gap="4">
        {ours.map((e) => (
          <ExportSheet key={e.path} exported={e} mayChange={mayChange} />
        ))}
        {adding && <AddExport folder={folder} onDone={() => setAdding(false)} />}
      </Stack>
      {mayChange && !adding && (
        <QuietButton mt="4" onClick={() => setAdding(true)}>
          <AddIcon /> Publish over NFS
        </QuietButton>
      )}
    </>
  );
}

function ExportSheet({ exported: e, mayChange }: { exported: Export; mayChange: boolean }) {
  const [setAsking, dialog] = useAsk(
    <Text>
      Whoever has <b>{e.path}</b> mounted feels it at once. The folder and its data stay.
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
            {[e.below && `from ${e.below} on`, e.description, !e.on && 'NFS is switched off']
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
                title: 'End this publication?',
                act: 'End it',
                done: `${e.path} is no longer published.`,
                changes: [{ kind: 'export', act: 'remove', of }],
              })
            }
          >
            End publication
          </QuietButton>
        )}
      </Flex>
      <Rules list={{ export: e.path }} rules={e.rules} inForce={e.inForce} mayChange={mayChange} />
      <Flex px="4" py="3" borderTopWidth="1px" borderColor="line" gap="6" wrap="wrap">
        {option('every write is on disk before it is answered', e.sync, (sync) => change.mutate({ sync }))}
        {option('groups as the client lists them, not as in the records', e.clientGroups, (clientGroups) =>
          setAsking({
            title: clientGroups ? 'Take the word of clients about groups?' : 'Go by the groups of the records?',
            act: 'Change it',
            done: `Changed: ${e.path}.`,
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
  const t = tried.data;
  return (
    <Box px="4" py="3" borderTopWidth="1px" borderColor="line">
      <HStack as="form" gap="3" onSubmit={handleSubmit((f) => tried.mutate(f.from.trim()))}>
        <Input
          aria-label={`Address to try on ${exported}`}
          size="sm"
          maxW="56"
          placeholder="address or host"
          autoComplete="off"
          {...register('from', { required: true })}
        />
        <QuietButton size="sm" type="submit" loading={tried.isPending}>
          Which rule applies?
        </QuietButton>
      </HStack>
      <Box aria-live="polite">
        {tried.error && (
          <Box mt="3">
            <Refused error={tried.error} />
          </Box>
        )}
        {t && !tried.error && (
          <HStack mt="3" gap="3" align="start">
            <GateIcon open={t.lets} boxSize="6" color={t.lets ? 'open' : 'shut'} />
            <Text fontSize="sm">
              <b>{t.lets ? `Line ${t.rule?.number} lets ${t.address} in` : `${t.address} is not let in`}</b>: {t.reason}
              .{t.rule && <Text color="faint">{t.rule.terms}</Text>}
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
      say(`Published as ${e.path}. Nobody may mount it before it has a client rule.`);
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
          <Field.Label>What clients mount</Field.Label>
          <Input fontFamily="mono" fontSize="sm" autoComplete="off" {...register('path', { required: true })} />
        </Field.Root>
        <Field.Root w="56">
          <Field.Label>Only from here on</Field.Label>
          <Input
            fontFamily="mono"
            fontSize="sm"
            autoComplete="off"
            placeholder="path in the folder"
            {...register('below')}
          />
        </Field.Root>
        <Field.Root flex="1" minW="40">
          <Field.Label>Description</Field.Label>
          <Input maxLength={200} {...register('description')} />
        </Field.Root>
      </Flex>
      <HStack mt="4" justify="end">
        <QuietButton size="sm" onClick={onDone}>
          Cancel
        </QuietButton>
        <MainButton size="sm" type="submit" loading={add.isPending}>
          Publish
        </MainButton>
      </HStack>
    </Sheet>
  );
}
