import { Field, Flex, HStack, Input, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { i18n } from '#texts';
import { change } from '../api/change';
import { api, type Change, client, taken, type VolumeRoom } from '../api/client';
import { Previewed, useAsk } from './effect';
import { Moment } from './moment';
import { MainButton, QuietButton, Waiting } from './sheet';
import { DataTable } from './table';
import { say, sayRefused } from './toaster';

/** How far what is stored on a volume is counted, folder by folder; and what can be done about it. */
export function Counts({ volume, mayChange }: { volume: string; mayChange: boolean }) {
  const counts = useQuery({
    queryKey: ['counts'],
    refetchInterval: 5_000,
    queryFn: async () => (await taken(api.GET('/api/v1/counts'))) ?? [],
  });
  const [ask, dialog] = useAsk();
  const count = useMutation({
    mutationFn: () => taken(api.POST('/api/v1/counts/{name}', { params: { path: { name: volume } }, body: {} })),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ['counts'] });
      say(t`All on ${volume} is counted anew.`);
    },
    onError: sayRefused,
  });
  if (!counts.data) return <Waiting error={counts.error} rows={1} />;
  const ours = counts.data.filter((c) => c.volume === volume);
  const paused = ours.some((c) => c.state === 'paused');
  if (ours.length === 0)
    return (
      <Text color="faint">
        <Trans>Nothing is counted on it.</Trans>
      </Text>
    );
  return (
    <>
      <DataTable
        label={t`What is counted on ${volume}`}
        rows={ours}
        rowKey={(c) => `${c.folder} ${c.below ?? ''}`}
        columns={[
          { head: t`Folder`, cell: (c) => (c.below ? `${c.folder}/${c.below}` : c.folder), is: { fontWeight: '600' } },
          {
            head: t`State`,
            cell: (c) => c.problem ?? c.state,
            is: (c) => ({ color: c.problem || c.state === 'failed' ? 'shut' : undefined, whiteSpace: 'normal' }),
          },
          {
            head: t`Files`,
            cell: (c) => i18n.number(c.usedFiles ?? 0),
            is: { textAlign: 'end' },
            headIs: { textAlign: 'end' },
          },
          { head: t`Last counted`, cell: (c) => (c.ended ? <Moment at={c.ended} /> : t`not yet`) },
          { head: t`Then it differed by`, cell: (c) => c.differed, is: { color: 'faint' } },
        ]}
      />
      {mayChange && (
        <HStack mt="3" wrap="wrap">
          <QuietButton size="sm" loading={count.isPending} onClick={() => count.mutate()}>
            <Trans>
              Count anew
              <Text srOnly>on {volume}</Text>
            </Trans>
          </QuietButton>
          <QuietButton
            size="sm"
            onClick={() =>
              ask({
                title: paused ? t`Go on counting on ${volume}?` : t`Pause counting on ${volume}?`,
                act: paused ? t`Go on` : t`Pause`,
                done: paused ? t`Counting goes on.` : t`Counting is paused; limits bind as before.`,
                changes: [change('count', 'pause', { of: { name: volume }, with: { paused: !paused } })],
              })
            }
          >
            {paused ? t`Go on counting` : t`Pause counting`}
            <Text srOnly>
              <Trans>on {volume}</Trans>
            </Text>
          </QuietButton>
        </HStack>
      )}
      {dialog}
    </>
  );
}

/** Another name for a volume, or another place: where its disk is mounted elsewhere, or was replaced. */
export function VolumePlace({ volume: v, onDone }: { volume: VolumeRoom; onDone: () => void }) {
  const [name, setName] = useState(v.name);
  const [path, setPath] = useState(v.path);
  const [asking, setAsking] = useState<Change[] | null>(null);
  const to = {
    ...(name.trim() !== v.name && { name: name.trim() }),
    ...(path.trim() !== v.path && { path: path.trim() }),
  };
  const of = { name: v.name };
  return (
    <>
      <Flex gap="3" wrap="wrap" align="end" mt="4">
        <Field.Root w="52">
          <Field.Label>
            <Trans>Name</Trans>
          </Field.Label>
          <Input value={name} onChange={(e) => setName(e.target.value)} />
        </Field.Root>
        <Field.Root flex="1" minW="64">
          <Field.Label>
            <Trans>Directory where it is mounted now</Trans>
          </Field.Label>
          <Input fontFamily="mono" fontSize="sm" value={path} onChange={(e) => setPath(e.target.value)} />
        </Field.Root>
        <QuietButton onClick={onDone}>
          <Trans>Cancel</Trans>
        </QuietButton>
        <QuietButton onClick={() => setAsking([change('volume', 'change', { of, with: { here: true } })])}>
          <Trans>Take what is there now for it</Trans>
        </QuietButton>
        <MainButton
          disabled={Object.keys(to).length === 0}
          onClick={() => setAsking([change('volume', 'change', { of, with: to })])}
        >
          <Trans>See what it does</Trans>
        </MainButton>
      </Flex>
      <Previewed
        title={t`Change volume ${v.name}?`}
        act={t`Change it`}
        changes={asking}
        done={t`The volume is changed.`}
        onClose={() => setAsking(null)}
        onDone={onDone}
      >
        <Text>
          <Trans>
            A directory has to carry the volume’s mark. After a disk was replaced and its data put back, what is there
            now is taken for the volume, and marked.
          </Trans>
        </Text>
      </Previewed>
    </>
  );
}
