import { Box, Field, Flex, Input, SimpleGrid, Stack, Text, Textarea } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { api, client, type Job, taken } from '../api/client';
import { Confirm } from './confirm';
import { Picker } from './picker';
import { MainButton, Part, QuietButton, Refused } from './sheet';
import { DataTable } from './table';
import { say } from './toaster';
import { size } from './use';

type Filled = { host: string; passwd: string; group: string };

/** The numbers of another machine are held against those here, and remembered under its name. */
export function CompareHost() {
  const { register, handleSubmit, reset } = useForm<Filled>({ defaultValues: { host: '', passwd: '', group: '' } });
  const check = useMutation({
    mutationFn: (f: Filled) =>
      taken(
        api.POST('/api/v1/ids/check', {
          body: {
            ...(f.host.trim() && { host: f.host.trim() }),
            ...(f.passwd.trim() && { passwd: f.passwd }),
            ...(f.group.trim() && { group: f.group }),
          },
        }),
      ),
    onSuccess: async (_, f) => {
      await client.invalidateQueries({ queryKey: ['numbers'] });
      if (f.host.trim()) reset();
    },
  });
  return (
    <Part title="Compare a host">
      <Box as="form" p="5" onSubmit={handleSubmit((f) => check.mutate(f))}>
        <Stack gap="3">
          <Text color="faint" fontSize="sm">
            Paste what <code>getent passwd</code> and <code>getent group</code> print there. With a name it is
            remembered, and the findings tell of it from then on.
          </Text>
          <SimpleGrid columns={{ base: 1, md: 2 }} gap="3">
            <Textarea
              rows={4}
              fontFamily="mono"
              fontSize="sm"
              aria-label="Lines of passwd"
              placeholder="orla:x:2105:3002:…"
              {...register('passwd')}
            />
            <Textarea
              rows={4}
              fontFamily="mono"
              fontSize="sm"
              aria-label="Lines of group"
              placeholder="observers:x:3001:orla"
              {...register('group')}
            />
          </SimpleGrid>
          <Flex gap="3" wrap="wrap" align="end">
            <Field.Root w="64">
              <Field.Label>Remember it as</Field.Label>
              <Input autoComplete="off" placeholder="not at all" {...register('host')} />
            </Field.Root>
            <MainButton type="submit" loading={check.isPending}>
              Compare
            </MainButton>
          </Flex>
          <Box aria-live="polite">
            {check.error && <Refused error={check.error} />}
            {check.data && (
              <>
                <Text fontWeight="600">
                  {check.data.compared} compared, {check.data.mismatches.length} of them otherwise than here.
                </Text>
                {check.data.mismatches.map((m) => (
                  <Text key={`${m.kind} ${m.name}`} fontSize="sm">
                    {m.kind} {m.name} is {m.there} there{m.here !== undefined && ` and ${m.here} here`}
                    {m.taken && `; ${m.there} is ${m.taken} here`}
                  </Text>
                ))}
              </>
            )}
          </Box>
        </Stack>
      </Box>
    </Part>
  );
}

/** Files under numbers that nobody in the records has: looked for, and given to somebody. */
export function Strays() {
  const [id, setId] = useState<number | null>(null);
  const [giving, setGiving] = useState<{ uid: number; files: number } | null>(null);
  const [to, setTo] = useState('');
  const job = useQuery({
    queryKey: ['jobs', id],
    enabled: id !== null,
    refetchInterval: (q) => (q.state.data?.over ? false : 700),
    queryFn: () => taken(api.GET('/api/v1/jobs/{id}', { params: { path: { id: id ?? 0 } } })),
  });
  const begin = useMutation({
    mutationFn: () => taken<Job>(api.POST('/api/v1/ids/strays')),
    onSuccess: (j) => setId(j.id),
  });
  const give = useMutation({
    mutationFn: () => taken<Job>(api.POST('/api/v1/ids/hand-over', { body: { uid: giving?.uid ?? 0, to: to.trim() } })),
    onSuccess: async (j) => {
      await client.invalidateQueries({ queryKey: ['jobs'] });
      say(`It is being given to ${to.trim()}: job ${j.id}.`);
      setGiving(null);
    },
  });
  const found = job.data?.strays;
  return (
    <Part
      title="Under numbers that nobody has"
      act={
        <QuietButton
          size="sm"
          bg="sheet"
          loading={begin.isPending || (id !== null && !job.data?.over)}
          onClick={() => begin.mutate()}
        >
          Look for them
        </QuietButton>
      }
    >
      <Box p="5" aria-live="polite">
        {begin.error && <Refused error={begin.error} />}
        {job.data?.error && <Text color="shut">{job.data.error}</Text>}
        {!found && (
          <Text color="faint" fontSize="sm">
            A job goes through all folders for files whose owner is nobody in the records: of people who were removed,
            or written by a host whose numbers are other ones.
            {job.data && !job.data.over && ` ${job.data.done.toLocaleString('en')} looked at.`}
          </Text>
        )}
        {found && found.strays.length === 0 && <Text>All {found.looked.toLocaleString('en')} belong to somebody.</Text>}
      </Box>
      {found && found.strays.length > 0 && (
        <DataTable
          label="Numbers that nobody has"
          rows={found.strays}
          rowKey={(s) => `${s.group} ${s.number}`}
          columns={[
            { head: 'Number', cell: (s) => `${s.group ? 'gid' : 'uid'} ${s.number}`, is: { fontWeight: '600' } },
            { head: 'Was', cell: (s) => s.name },
            { head: 'Files', cell: (s) => s.files.toLocaleString('en') },
            { head: 'Takes', cell: (s) => size(s.bytes) },
            { head: 'In', cell: (s) => s.folders.join(', ') },
            {
              head: 'One of them',
              cell: (s) => s.example,
              is: { fontFamily: 'mono', fontSize: 'sm', whiteSpace: 'normal', wordBreak: 'break-all' },
            },
            {
              head: '-Give',
              cell: (s) =>
                !s.group && (
                  <QuietButton size="xs" onClick={() => setGiving({ uid: s.number, files: s.files })}>
                    Give to somebody
                    <Text srOnly>what uid {s.number} has</Text>
                  </QuietButton>
                ),
              is: { textAlign: 'end' },
            },
          ]}
        />
      )}
      <Confirm
        title={`Give what uid ${giving?.uid} has to somebody?`}
        act="Give it"
        open={giving !== null}
        busy={give.isPending}
        onClose={() => setGiving(null)}
        onAct={() => to.trim() && give.mutate()}
      >
        <Stack gap="3">
          <Text>
            {giving?.files.toLocaleString('en')} files and directories become theirs, by a job. That cannot be
            previewed, and is taken back only by giving them away again.
          </Text>
          <Picker of="user" inDialog aria-label="To whom" placeholder="user" value={to} onChange={setTo} />
          {give.error && <Refused error={give.error} />}
        </Stack>
      </Confirm>
    </Part>
  );
}
