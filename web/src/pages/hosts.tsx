import { Box, Field, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { change } from '../api/change';
import { api, client, type HostSet, taken, useHostSets, useMe } from '../api/client';
import { CompareHost, Strays } from '../parts/compare-host';
import { Confirm } from '../parts/confirm';
import { useAsk } from '../parts/effect';
import { Entry, placeRefusal } from '../parts/form';
import { AddIcon } from '../parts/icons';
import { Numbers } from '../parts/numbers';
import { Rules } from '../parts/rules';
import { MainButton, PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { say, sayRefused } from '../parts/toaster';

const refresh = () => client.invalidateQueries({ queryKey: ['exports'] });

/** Host sets: client rules worth using again. */
export function Hosts() {
  const sets = useHostSets();
  const me = useMe();
  const [adding, setAdding] = useState(false);
  const mayChange = me.data?.role === 'administrator';
  if (!sets.data) return <Waiting error={sets.error} />;
  return (
    <>
      <PageHead title={t`Hosts`} text={t`Host sets: client rules with a name, to stand in any export as @name.`}>
        {mayChange && !adding && (
          <MainButton onClick={() => setAdding(true)}>
            <AddIcon /> <Trans>New host set</Trans>
          </MainButton>
        )}
      </PageHead>
      <Stack gap="4">
        {adding && <AddSet onDone={() => setAdding(false)} />}
        {sets.data.length === 0 && !adding && (
          <Sheet p="8">
            <Text fontWeight="600" mb="1">
              <Trans>No host sets yet</Trans>
            </Text>
            <Text color="faint">
              <Trans>
                Where several exports are for the same hosts, put their rules here once and name the set in each export.
              </Trans>
            </Text>
          </Sheet>
        )}
        {sets.data.map((h) => (
          <SetSheet key={h.name} set={h} mayChange={mayChange} />
        ))}
      </Stack>
      <Numbers mayChange={mayChange} />
      <Stack gap="4" mt="4">
        <CompareHost />
        {mayChange && <Strays />}
      </Stack>
    </>
  );
}

function SetSheet({ set, mayChange }: { set: HostSet; mayChange: boolean }) {
  const [asking, setAsking] = useState(false);
  const [editing, setEditing] = useState(false);
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE('/api/v1/host-sets/{name}', { params: { path: { name: set.name } } })),
    onSuccess: async () => {
      await refresh();
      say(t`Removed: host set ${set.name}.`);
    },
    onError: sayRefused,
    onSettled: () => setAsking(false),
  });
  return (
    <Sheet as="section" aria-label={set.name}>
      <Flex px="4" py="2.5" bg="sunk" justify="space-between" align="center" gap="3" wrap="wrap">
        <Box>
          <Text fontWeight="600">@{set.name}</Text>
          <Text color="faint" fontSize="sm">
            {[set.description, set.usedBy.length ? t`used by ${set.usedBy.join(', ')}` : t`used by nothing`]
              .filter(Boolean)
              .join(' – ')}
          </Text>
        </Box>
        {mayChange && (
          <HStack>
            <QuietButton size="sm" bg="sheet" aria-expanded={editing} onClick={() => setEditing(!editing)}>
              <Trans>
                Change
                <Text srOnly>host set {set.name}</Text>
              </Trans>
            </QuietButton>
            <QuietButton size="sm" bg="sheet" disabled={set.usedBy.length > 0} onClick={() => setAsking(true)}>
              <Trans>Remove set</Trans>
            </QuietButton>
          </HStack>
        )}
      </Flex>
      {editing && <ChangeSet set={set} onDone={() => setEditing(false)} />}
      <Rules list={{ set: set.name }} rules={set.rules} mayChange={mayChange} />
      <Confirm
        title={t`Remove this host set?`}
        act={t`Remove`}
        open={asking}
        busy={remove.isPending}
        onClose={() => setAsking(false)}
        onAct={() => remove.mutate()}
      >
        <Text>
          <Trans>
            No export uses <b>{set.name}</b>.
          </Trans>
        </Text>
      </Confirm>
    </Sheet>
  );
}

function ChangeSet({ set, onDone }: { set: HostSet; onDone: () => void }) {
  const was = { name: set.name, description: set.description ?? '' };
  const form = useForm({ defaultValues: was });
  const [ask, dialog] = useAsk();
  return (
    <Box px="4" py="4" borderBottomWidth="1px" borderColor="line">
      <form
        onSubmit={form.handleSubmit((f) => {
          const to = {
            ...(f.name.trim() !== was.name && { name: f.name.trim() }),
            ...(f.description !== was.description && { description: f.description }),
          };
          if (Object.keys(to).length === 0) onDone();
          else
            ask({
              title: t`Change host set ${set.name}?`,
              act: t`Change it`,
              done: t`Host set ${f.name} is changed.`,
              changes: [change('host set', 'change', { of: { name: set.name }, with: to })],
              refused: (e) => placeRefusal(e, form),
              after: onDone,
            });
        })}
      >
        <Flex gap="3" wrap="wrap" align="end">
          <Entry label={t`Name`} w="56" error={form.formState.errors.name}>
            <Input {...form.register('name', { required: true })} />
          </Entry>
          <Entry label={t`Whose hosts they are`} flex="1" minW="40" error={form.formState.errors.description}>
            <Input maxLength={200} {...form.register('description')} />
          </Entry>
          <QuietButton onClick={onDone}>
            <Trans>Cancel</Trans>
          </QuietButton>
          <MainButton type="submit">
            <Trans>See what it does</Trans>
          </MainButton>
        </Flex>
      </form>
      {dialog}
    </Box>
  );
}

function AddSet({ onDone }: { onDone: () => void }) {
  const { register, handleSubmit } = useForm<{ name: string; description: string }>();
  const add = useMutation({
    mutationFn: (f: { name: string; description: string }) =>
      taken(api.POST('/api/v1/host-sets', { body: { name: f.name.trim(), description: f.description.trim() } })),
    onSuccess: async (h) => {
      await refresh();
      say(t`Made: host set ${h.name}.`);
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
            <Trans>Name</Trans>
          </Field.Label>
          <Input autoFocus autoComplete="off" {...register('name', { required: true })} />
        </Field.Root>
        <Field.Root flex="1" minW="40">
          <Field.Label>
            <Trans>Whose hosts they are</Trans>
          </Field.Label>
          <Input maxLength={200} {...register('description')} />
        </Field.Root>
        <HStack>
          <QuietButton onClick={onDone}>
            <Trans>Cancel</Trans>
          </QuietButton>
          <MainButton type="submit" loading={add.isPending}>
            <Trans>Make it</Trans>
          </MainButton>
        </HStack>
      </Flex>
    </Sheet>
  );
}
