import { Field, Flex, HStack, Input, Text } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
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
      say(`All on ${volume} is counted anew.`);
    },
    onError: sayRefused,
  });
  if (!counts.data) return <Waiting error={counts.error} rows={1} />;
  const ours = counts.data.filter((c) => c.volume === volume);
  const paused = ours.some((c) => c.state === 'paused');
  if (ours.length === 0) return <Text color="faint">Nothing is counted on it.</Text>;
  return (
    <>
      <DataTable
        label={`What is counted on ${volume}`}
        rows={ours}
        rowKey={(c) => `${c.folder} ${c.below ?? ''}`}
        columns={[
          { head: 'Folder', cell: (c) => (c.below ? `${c.folder}/${c.below}` : c.folder), is: { fontWeight: '600' } },
          {
            head: 'State',
            cell: (c) => c.problem ?? c.state,
            is: (c) => ({ color: c.problem || c.state === 'failed' ? 'shut' : undefined, whiteSpace: 'normal' }),
          },
          {
            head: 'Files',
            cell: (c) => (c.usedFiles ?? 0).toLocaleString('en'),
            is: { textAlign: 'end' },
            headIs: { textAlign: 'end' },
          },
          { head: 'Last counted', cell: (c) => (c.ended ? <Moment at={c.ended} /> : 'not yet') },
          { head: 'Then it differed by', cell: (c) => c.differed, is: { color: 'faint' } },
        ]}
      />
      {mayChange && (
        <HStack mt="3" wrap="wrap">
          <QuietButton size="sm" loading={count.isPending} onClick={() => count.mutate()}>
            Count anew
            <Text srOnly>on {volume}</Text>
          </QuietButton>
          <QuietButton
            size="sm"
            onClick={() =>
              ask({
                title: paused ? `Go on counting on ${volume}?` : `Pause counting on ${volume}?`,
                act: paused ? 'Go on' : 'Pause',
                done: paused ? 'Counting goes on.' : 'Counting is paused; limits bind as before.',
                changes: [change('count', 'pause', { of: { name: volume }, with: { paused: !paused } })],
              })
            }
          >
            {paused ? 'Go on counting' : 'Pause counting'}
            <Text srOnly>on {volume}</Text>
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
          <Field.Label>Name</Field.Label>
          <Input value={name} onChange={(e) => setName(e.target.value)} />
        </Field.Root>
        <Field.Root flex="1" minW="64">
          <Field.Label>Directory where it is mounted now</Field.Label>
          <Input fontFamily="mono" fontSize="sm" value={path} onChange={(e) => setPath(e.target.value)} />
        </Field.Root>
        <QuietButton onClick={onDone}>Cancel</QuietButton>
        <QuietButton onClick={() => setAsking([change('volume', 'change', { of, with: { here: true } })])}>
          Take what is there now for it
        </QuietButton>
        <MainButton
          disabled={Object.keys(to).length === 0}
          onClick={() => setAsking([change('volume', 'change', { of, with: to })])}
        >
          See what it does
        </MainButton>
      </Flex>
      <Previewed
        title={`Change volume ${v.name}?`}
        act="Change it"
        changes={asking}
        done="The volume is changed."
        onClose={() => setAsking(null)}
        onDone={onDone}
      >
        <Text>
          A directory has to carry the volume’s mark. After a disk was replaced and its data put back, what is there now
          is taken for the volume, and marked.
        </Text>
      </Previewed>
    </>
  );
}
