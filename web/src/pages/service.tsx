import { Box, Flex, HStack, Input, SimpleGrid, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { api, client, Refusal, taken, useFolders, useMe } from '../api/client';
import { when } from '../parts/day';
import { Entry } from '../parts/form';
import { Lines } from '../parts/lines';
import { Moment } from '../parts/moment';
import { Pick } from '../parts/pick';
import { Fact, MainButton, PageHead, Part, QuietButton, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { say, sayRefused } from '../parts/toaster';
import { size } from '../parts/use';

/** The process that serves: what it was told, its certificate, its backups, and what the machine around it lacks. */
export function ServicePage() {
  const mayChange = useMe().data?.role === 'administrator';
  return (
    <>
      <PageHead title={t`Service`} text={t`The process that serves, and the machine that it runs on`} />
      <Stack gap="6">
        <SimpleGrid columns={{ base: 1, xl: 2 }} gap="5" alignItems="start">
          <Certificate />
          <Backups mayChange={mayChange} />
        </SimpleGrid>
        {mayChange && <Doctor />}
        <Told mayChange={mayChange} />
      </Stack>
    </>
  );
}

function Certificate() {
  const is = useQuery({ queryKey: ['certificate'], queryFn: () => taken(api.GET('/api/v1/certificate')) });
  return (
    <Part title={t`Certificate`}>
      {!is.data ? (
        <Box p="5">
          <Waiting error={is.error} rows={2} />
        </Box>
      ) : (
        <Stack px="5" py="4" gap="4">
          <Flex gap="6" wrap="wrap">
            <Fact name={t`Signed by`}>{is.data.own ? t`the service itself` : t`an authority`}</Fact>
            <Fact name={t`Until`}>{when(is.data.until)}</Fact>
            <Fact name={t`Tokens`}>
              {is.data.clients ? t`only with a certificate of the client’s` : t`from any client`}
            </Fact>
          </Flex>
          <Fact name={t`For`}>{is.data.names.join(', ') || is.data.subject}</Fact>
          <Fact name={t`Fingerprint (SHA-256)`}>
            <Text fontFamily="mono" fontSize="sm" overflowWrap="anywhere">
              {is.data.fingerprint}
            </Text>
          </Fact>
          {is.data.trouble && (
            <Text color="accent">
              <Trans>What its files hold now cannot be used, and the one before is in force: {is.data.trouble}</Trans>
            </Text>
          )}
        </Stack>
      )}
    </Part>
  );
}

function Backups({ mayChange }: { mayChange: boolean }) {
  const kept = useQuery({ queryKey: ['backups'], queryFn: () => taken(api.GET('/api/v1/backups')) });
  const keep = useMutation({
    mutationFn: () => taken(api.POST('/api/v1/backups')),
    onSuccess: async (b) => {
      await client.invalidateQueries({ queryKey: ['backups'] });
      say(t`Written: ${b.name}`);
    },
    onError: sayRefused,
  });
  return (
    <Part
      title={t`Backups`}
      act={
        mayChange &&
        kept.data?.where && (
          <QuietButton onClick={() => keep.mutate()} loading={keep.isPending}>
            <Trans>Write one now</Trans>
          </QuietButton>
        )
      }
    >
      {!kept.data ? (
        <Box p="5">
          <Waiting error={kept.error} rows={2} />
        </Box>
      ) : (
        <Stack px="5" py="4" gap="4">
          {kept.data.problem && <Text color="shut">{kept.data.problem}</Text>}
          {kept.data.where === '' ? (
            <Text color="faint">
              <Trans>None are written by themselves: the setting backup-to says where to.</Trans>
            </Text>
          ) : (
            <>
              <Text color="faint">
                <Trans>They are kept in {kept.data.where}.</Trans>
              </Text>
              <DataTable
                label={t`Backups`}
                rows={kept.data.backups}
                rowKey={(b) => b.name}
                maxH="220px"
                columns={[
                  { head: t`Made`, cell: (b) => <Moment at={b.made} />, is: { whiteSpace: 'nowrap' } },
                  { head: t`Size`, cell: (b) => size(b.size), is: { whiteSpace: 'nowrap' } },
                  {
                    head: t`Name`,
                    cell: (b) => b.name,
                    is: (b) => ({ fontFamily: 'mono', fontSize: 'sm', maxW: '180px', truncate: true, title: b.name }),
                  },
                ]}
              />
            </>
          )}
          {mayChange && <Fetch />}
        </Stack>
      )}
    </Part>
  );
}

/** Has a backup made, sealed with a passphrase, and gives it to the browser as a file. */
function Fetch() {
  const [passphrase, setPassphrase] = useState('');
  const make = useMutation({
    mutationFn: async () => {
      const answer = await api.POST('/api/v1/backup', { body: { passphrase }, parseAs: 'blob' });
      if (!answer.response.ok) throw new Refusal(answer.response.status, answer.error as never);
      const named = /filename="([^"]+)"/.exec(answer.response.headers.get('Content-Disposition') ?? '');
      const link = document.createElement('a');
      link.href = URL.createObjectURL(answer.data as Blob);
      link.download = named?.[1] ?? 'amber.tar.gz.age';
      link.click();
      URL.revokeObjectURL(link.href);
      return link.download;
    },
    onSuccess: (name) => {
      setPassphrase('');
      say(t`Made: ${name}`);
    },
    onError: sayRefused,
  });
  return (
    <form
      aria-label={t`Make a backup`}
      onSubmit={(e: FormEvent) => {
        e.preventDefault();
        make.mutate();
      }}
    >
      <Flex gap="3" align="end" wrap="wrap">
        <Entry label={t`Passphrase`} w="72" help={t`It is sealed with it, and lost without it: at least 8 characters.`}>
          <Input
            type="password"
            autoComplete="new-password"
            value={passphrase}
            onChange={(e) => setPassphrase(e.target.value)}
          />
        </Entry>
        <MainButton type="submit" disabled={passphrase.length < 8} loading={make.isPending}>
          <Trans>Make one, and take it along</Trans>
        </MainButton>
      </Flex>
    </form>
  );
}

function Doctor() {
  const folders = useFolders();
  const [client, setClient] = useState('');
  const [folder, setFolder] = useState('');
  const look = useMutation({
    mutationFn: (of: { client?: string; folder?: string }) =>
      taken(api.GET('/api/v1/doctor', { params: { query: of } })),
    onError: sayRefused,
  });
  const way = Boolean(look.variables?.client);
  return (
    <Part
      title={t`Doctor`}
      act={
        <QuietButton onClick={() => look.mutate({})} loading={look.isPending && !way}>
          <Trans>Look at this machine</Trans>
        </QuietButton>
      }
    >
      <Stack px="5" py="4" gap="4">
        <form
          aria-label={t`The way in`}
          onSubmit={(e: FormEvent) => {
            e.preventDefault();
            look.mutate({ client: client.trim(), folder });
          }}
        >
          <Flex gap="3" align="end" wrap="wrap">
            <Entry label={t`Client, by address or name`} w="64">
              <Input value={client} onChange={(e) => setClient(e.target.value)} />
            </Entry>
            <Entry label={t`Into the folder`} w="56">
              <Pick value={folder} onChange={(e) => setFolder(e.target.value)}>
                <option value="">{t`choose`}</option>
                {(folders.data ?? []).map((f) => (
                  <option key={f.name}>{f.name}</option>
                ))}
              </Pick>
            </Entry>
            <QuietButton type="submit" disabled={client.trim() === '' || folder === ''} loading={look.isPending && way}>
              <Trans>Go the way in</Trans>
            </QuietButton>
          </Flex>
        </form>
      </Stack>
      {look.data && (
        <Lines label={way ? t`The way in` : t`This machine`} lines={look.data.findings} inOrder={way} commands />
      )}
    </Part>
  );
}

const levels = ['debug', 'info', 'warn', 'error'] as const;

function Told({ mayChange }: { mayChange: boolean }) {
  const told = useQuery({ queryKey: ['told'], queryFn: () => taken(api.GET('/api/v1/settings')) });
  const again = () =>
    Promise.all([
      client.invalidateQueries({ queryKey: ['told'] }),
      client.invalidateQueries({ queryKey: ['certificate'] }),
    ]);
  const reread = useMutation({
    mutationFn: () => taken(api.POST('/api/v1/settings/reread')),
    onSuccess: async ({ waiting }) => {
      await again();
      say(
        waiting.length === 0
          ? t`The settings have been read again.`
          : t`The settings have been read again. After the next start: ${waiting.join(', ')}.`,
      );
    },
    onError: sayRefused,
  });
  const level = useMutation({
    mutationFn: (to: (typeof levels)[number]) => taken(api.PUT('/api/v1/log-level', { body: { level: to } })),
    onSuccess: async (is) => {
      await again();
      say(t`Logged from ${is.level} on.`);
    },
    onError: sayRefused,
  });
  const now = told.data?.settings.find((s) => s.name === 'log-level')?.value;
  return (
    <Part
      title={t`Settings of the process`}
      act={
        mayChange && (
          <HStack gap="3">
            <Text fontSize="sm" color="faint" whiteSpace="nowrap">
              <Trans>Log from</Trans>
            </Text>
            <Pick
              aria-label={t`Log from`}
              value={now ?? ''}
              onChange={(e) => level.mutate(e.target.value as (typeof levels)[number])}
            >
              {levels.map((l) => (
                <option key={l}>{l}</option>
              ))}
            </Pick>
            <QuietButton onClick={() => reread.mutate()} loading={reread.isPending}>
              <Trans>Read again</Trans>
            </QuietButton>
          </HStack>
        )
      }
    >
      {!told.data ? (
        <Box p="5">
          <Waiting error={told.error} rows={6} />
        </Box>
      ) : (
        <DataTable
          label={t`Settings of the process`}
          rows={told.data.settings}
          rowKey={(s) => s.name}
          columns={[
            { head: t`Setting`, cell: (s) => s.name, is: { fontWeight: '600', whiteSpace: 'nowrap' } },
            {
              head: t`Is`,
              cell: (s) => s.value || '–',
              is: { fontFamily: 'mono', fontSize: 'sm', overflowWrap: 'anywhere' },
            },
            { head: t`Said by`, cell: (s) => s.where, is: { color: 'faint' } },
            { head: t`Taken up`, cell: (s) => (s.live ? t`when read again` : t`at the start`), is: { color: 'faint' } },
          ]}
        />
      )}
    </Part>
  );
}
