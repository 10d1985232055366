import { Box, Field, Flex, Input, SimpleGrid, Stack, Text, Textarea } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { i18n } from '#texts';
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
    <Part title={t`Compare a host`}>
      <Box as="form" p="5" onSubmit={handleSubmit((f) => check.mutate(f))}>
        <Stack gap="3">
          <Text color="faint" fontSize="sm">
            <Trans>
              Paste what <code>getent passwd</code> and <code>getent group</code> print there. With a name it is
              remembered, and the findings tell of it from then on.
            </Trans>
          </Text>
          <SimpleGrid columns={{ base: 1, md: 2 }} gap="3">
            <Textarea
              rows={4}
              fontFamily="mono"
              fontSize="sm"
              aria-label={t`Lines of passwd`}
              placeholder={t`orla:x:2105:3002:…`}
              {...register('passwd')}
            />
            <Textarea
              rows={4}
              fontFamily="mono"
              fontSize="sm"
              aria-label={t`Lines of group`}
              placeholder={t`observers:x:3001:orla`}
              {...register('group')}
            />
          </SimpleGrid>
          <Flex gap="3" wrap="wrap" align="end">
            <Field.Root w="64">
              <Field.Label>
                <Trans>Remember it as</Trans>
              </Field.Label>
              <Input autoComplete="off" placeholder={t`not at all`} {...register('host')} />
            </Field.Root>
            <MainButton type="submit" loading={check.isPending}>
              <Trans>Compare</Trans>
            </MainButton>
          </Flex>
          <Box aria-live="polite">
            {check.error && <Refused error={check.error} />}
            {check.data && (
              <>
                <Text fontWeight="600">
                  <Trans>
                    {check.data.compared} compared, {check.data.mismatches.length} of them otherwise than here.
                  </Trans>
                </Text>
                {check.data.mismatches.map((m) => (
                  <Text key={`${m.kind} ${m.name}`} fontSize="sm">
                    <Trans>
                      {m.kind} {m.name} is {m.there} there{m.here !== undefined && t` and ${m.here} here`}
                      {m.taken && t`; ${m.there} is ${m.taken} here`}
                    </Trans>
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
      say(t`It is being given to ${to.trim()}: job ${j.id}.`);
      setGiving(null);
    },
  });
  const found = job.data?.strays;
  return (
    <Part
      title={t`Under numbers that nobody has`}
      act={
        <QuietButton
          size="sm"
          bg="sheet"
          loading={begin.isPending || (id !== null && !job.data?.over)}
          onClick={() => begin.mutate()}
        >
          <Trans>Look for them</Trans>
        </QuietButton>
      }
    >
      <Box p="5" aria-live="polite">
        {begin.error && <Refused error={begin.error} />}
        {job.data?.error && <Text color="shut">{job.data.error}</Text>}
        {!found && (
          <Text color="faint" fontSize="sm">
            <Trans>
              A job goes through all folders for files whose owner is nobody in the records: of people who were removed,
              or written by a host whose numbers are other ones.
              {job.data && !job.data.over && t` ${i18n.number(job.data.done)} looked at.`}
            </Trans>
          </Text>
        )}
        {found && found.strays.length === 0 && (
          <Text>
            <Trans>All {i18n.number(found.looked)} belong to somebody.</Trans>
          </Text>
        )}
      </Box>
      {found && found.strays.length > 0 && (
        <DataTable
          label={t`Numbers that nobody has`}
          rows={found.strays}
          rowKey={(s) => `${s.group} ${s.number}`}
          columns={[
            { head: t`Number`, cell: (s) => `${s.group ? 'gid' : 'uid'} ${s.number}`, is: { fontWeight: '600' } },
            { head: t`Was`, cell: (s) => s.name },
            { head: t`Files`, cell: (s) => i18n.number(s.files) },
            { head: t`Takes`, cell: (s) => size(s.bytes) },
            { head: t`In`, cell: (s) => s.folders.join(', ') },
            {
              head: t`One of them`,
              cell: (s) => s.example,
              is: { fontFamily: 'mono', fontSize: 'sm', whiteSpace: 'normal', wordBreak: 'break-all' },
            },
            {
              head: `-${t`Give`}`,
              cell: (s) =>
                !s.group && (
                  <QuietButton size="xs" onClick={() => setGiving({ uid: s.number, files: s.files })}>
                    <Trans>
                      Give to somebody
                      <Text srOnly>what uid {s.number} has</Text>
                    </Trans>
                  </QuietButton>
                ),
              is: { textAlign: 'end' },
            },
          ]}
        />
      )}
      <Confirm
        title={t`Give what uid ${giving?.uid ?? ''} has to somebody?`}
        act={t`Give it`}
        open={giving !== null}
        busy={give.isPending}
        onClose={() => setGiving(null)}
        onAct={() => to.trim() && give.mutate()}
      >
        <Stack gap="3">
          <Text>
            <Trans>
              {i18n.number(giving?.files ?? 0)} files and directories become theirs, by a job. That cannot be previewed,
              and is taken back only by giving them away again.
            </Trans>
          </Text>
          <Picker of="user" inDialog aria-label={t`To whom`} placeholder={t`user`} value={to} onChange={setTo} />
          {give.error && <Refused error={give.error} />}
        </Stack>
      </Confirm>
    </Part>
  );
}
