import { Box, Flex, HStack, SimpleGrid, Stack, Text } from '@chakra-ui/react';
import { plural, t } from '@lingui/core/macro';
import { Plural, Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { lazy, type ReactNode, Suspense } from 'react';
import { Link } from 'react-router';
import {
  api,
  client,
  type JournalRow,
  taken,
  undo,
  useExports,
  useFindings,
  useFolders,
  useJobs,
  useMe,
  useServices,
  useShares,
  useUnsent,
  useUsers,
  useUses,
  useVolumes,
} from '../api/client';
import { useSessions, useStatus, useThroughput } from '../api/live';
import { FindingIcon } from '../parts/icons';
import { Lines } from '../parts/lines';
import { Moment } from '../parts/moment';
import { NewFolderLink } from '../parts/new-folder-link';
import { MainButton, PageHead, Part, QuietButton, Sheet, Waiting } from '../parts/sheet';
import { say, sayRefused } from '../parts/toaster';
import { span, stateOf, UseBar } from '../parts/use';
import { Room } from './volumes';

/** The first page: what serves, what needs a hand, and what was changed last. */
export function Overview() {
  const me = useMe().data;
  const folders = useFolders();
  const volumes = useVolumes();
  const mayChange = me?.role === 'administrator';
  if (!folders.data || !volumes.data) return <Waiting error={folders.error ?? volumes.error} />;
  if (folders.data.length === 0) return <FirstSteps volumes={volumes.data.length} mayChange={mayChange} />;
  return (
    <>
      <PageHead title={t`Overview`} text={t`What serves, what needs a hand, and what was changed last`}>
        {mayChange && <NewFolderLink />}
      </PageHead>
      <Serving />
      <SimpleGrid columns={{ base: 1, xl: 2 }} gap="5" alignItems="start">
        <NeedsAHand />
        <Stack gap="5">
          <AtTheWire />
          <HowItStands />
          <Part
            title={t`Room`}
            act={
              <To to="/volumes">
                <Trans>Volumes</Trans>
              </To>
            }
          >
            <Stack px="5" py="4" gap="4">
              {volumes.data.map((v) => (
                <Flex key={v.name} gap="5" align="start" wrap="wrap">
                  <Text fontWeight="600" minW="28">
                    {v.name}
                  </Text>
                  {v.away ? (
                    <Text color="shut">
                      <Trans>away: {v.away}</Trans>
                    </Text>
                  ) : (
                    <Room total={v.totalBytes} free={v.freeBytes} />
                  )}
                </Flex>
              ))}
            </Stack>
          </Part>
          <Jobs />
          <LastChanged mayUndo={me?.role === 'administrator' || me?.role === 'operator'} />
        </Stack>
      </SimpleGrid>
    </>
  );
}

const To = ({ to, children }: { to: string; children: ReactNode }) => (
  <Link to={to}>
    <Text as="span" fontSize="sm" textDecoration="underline" textDecorationColor="line">
      {children}
    </Text>
  </Link>
);

const ThroughputCharts = lazy(async () => ({ default: (await import('../parts/throughput')).ThroughputCharts }));

/** Who is connected now, and what was asked in the last hours. */
function AtTheWire() {
  const sessions = useSessions({ limit: 1 });
  const n = sessions.data?.total;
  const lately = useThroughput({ since: '2h' }).data?.spans.length ?? 0;
  return (
    <Part
      title={t`At the wire`}
      act={
        <To to="/live">
          <Trans>Live</Trans>
        </To>
      }
    >
      <Stack px="5" py="4" gap="3">
        <Text minH="6">
          {n === 0 && t`Nobody is connected.`}
          {n !== undefined && n > 0 && plural(n, { one: '# client is connected.', other: '# clients are connected.' })}
        </Text>
        {lately > 0 && (
          <Suspense fallback={null}>
            <ThroughputCharts since="2h" brief />
          </Suspense>
        )}
      </Stack>
    </Part>
  );
}

/** How the service stands, line by line; what is not well first. */
function HowItStands() {
  const status = useStatus();
  return (
    <Part title={t`How it stands`}>
      {!status.data ? (
        <Box p="5">
          <Waiting error={status.error} rows={3} />
        </Box>
      ) : (
        <Lines label={t`How it stands`} lines={status.data.lines} />
      )}
    </Part>
  );
}

/** One line of numbers: what is published, and whether it is spoken. */
function Serving() {
  const services = useServices();
  const shares = useShares();
  const exported = useExports();
  const users = useUsers();
  const folders = useFolders();
  const on = (p: string) => services.data?.find((s) => s.protocol === p)?.on;
  const tile = (to: string, name: string, many: number | undefined, says: string, bad?: boolean) => (
    <Link to={to}>
      <Sheet px="5" py="4" h="full" _hover={{ bg: 'sunk' }}>
        <Text fontSize="xs" color="faint" fontWeight="600" textTransform="uppercase" letterSpacing="0.06em">
          {name}
        </Text>
        <Text fontSize="2xl" fontWeight="700" lineHeight="1.3">
          {many ?? '–'}
        </Text>
        <Text fontSize="sm" color={bad ? 'shut' : 'faint'} fontWeight={bad ? '600' : undefined}>
          {says}
        </Text>
      </Sheet>
    </Link>
  );
  return (
    <SimpleGrid columns={{ base: 2, lg: 4 }} gap="4" mb="6">
      {tile(
        '/folders',
        t`Folders`,
        folders.data?.length,
        t`${folders.data?.filter((f) => f.shares.length + f.exports.length === 0).length ?? 0} not published`,
      )}
      {tile(
        '/publishing',
        t`Shares`,
        shares.data?.length,
        on('smb') === false ? t`SMB is switched off` : t`SMB is on`,
        on('smb') === false,
      )}
      {tile(
        '/publishing',
        t`Exports`,
        exported.data?.length,
        on('nfs') === false ? t`NFS is switched off` : t`NFS is on`,
        on('nfs') === false,
      )}
      {tile(
        '/people',
        t`People`,
        users.data?.filter((u) => !u.left).length,
        t`${users.data?.filter((u) => u.left).length ?? 0} have left`,
      )}
    </SimpleGrid>
  );
}

/** What is wrong or will be, each with where it is mended. */
function NeedsAHand() {
  const findings = useFindings(false);
  const by = useUses('user', '');
  const ofFolders = useUses('folder', '');
  const unsent = useUnsent();
  const me = useMe().data;
  const close = [...(by.data?.uses ?? []), ...(ofFolders.data?.uses ?? [])]
    .flatMap((u) => u.standings.map((s) => ({ u, s })))
    .filter(({ s }) => s.percent >= 80 || (s.state !== 'within' && s.state !== 'counting'))
    .sort((a, b) => b.s.percent - a.s.percent)
    .slice(0, 4);
  const grave = (findings.data ?? []).filter((f) => f.severity !== 'low');
  const low = (findings.data?.length ?? 0) - grave.length;
  const nothing = !!findings.data && grave.length === 0 && close.length === 0 && !unsent.data?.length && !me?.trouble;
  return (
    <Part
      title={t`Needs a hand`}
      act={
        <To to="/findings">
          <Trans>All findings</Trans>
        </To>
      }
    >
      <Stack px="5" py="4" gap="4">
        {!findings.data && <Waiting error={findings.error} rows={2} />}
        {nothing && (
          <Text>
            <Trans>Nothing does.</Trans>
          </Text>
        )}
        {grave.slice(0, 5).map((f) => (
          <HStack key={f.key} align="start" gap="3">
            <FindingIcon color={f.severity === 'high' ? 'shut' : 'accent'} mt="0.5" />
            <Box>
              <Text fontWeight="600">
                {f.subject}: {f.kind}
              </Text>
              <Text color="faint" fontSize="sm">
                {f.says}.
              </Text>
              <To to={`/findings#${f.key}`}>
                <Trans>Mend it</Trans>
              </To>
            </Box>
          </HStack>
        ))}
        {grave.length > 5 && (
          <To to="/findings">
            <Trans>and {grave.length - 5} more</Trans>
          </To>
        )}
        {low > 0 && (
          <Text color="faint" fontSize="sm">
            <Trans>{low} that are only untidy.</Trans>
          </Text>
        )}
        {close.length > 0 && (
          <Box>
            <Text fontWeight="600" mb="2">
              <Trans>Close to a limit</Trans>
            </Text>
            <Stack gap="3">
              {close.map(({ u, s }) => (
                <Box key={`${u.by} ${u.name} ${s.limitId}`}>
                  <HStack justify="space-between">
                    <Text>
                      {u.by} {u.name}
                    </Text>
                    <Text color="faint" fontSize="sm">
                      {stateOf(s).text}
                    </Text>
                  </HStack>
                  <UseBar standing={s} />
                </Box>
              ))}
              <To to="/limits">
                <Trans>Limits</Trans>
              </To>
            </Stack>
          </Box>
        )}
        {!!unsent.data?.length && (
          <Text>
            <Trans>
              <Plural value={unsent.data.length} one="# notice" other="# notices" /> could not be brought.{' '}
              <To to="/notices">See why</To>
            </Trans>
          </Text>
        )}
      </Stack>
    </Part>
  );
}

function Jobs() {
  const jobs = useJobs();
  const running = jobs.data?.filter((j) => !j.over) ?? [];
  const failed = jobs.data?.filter((j) => j.over && j.error).slice(0, 2) ?? [];
  if (running.length + failed.length === 0) return null;
  return (
    <Part title={t`Going on by itself`}>
      <Stack px="5" py="4" gap="3">
        {running.map((j) => (
          <Box key={j.id}>
            <Text fontWeight="600">{j.text}</Text>
            <Text color="faint" fontSize="sm">
              <Trans>
                {j.done}
                {j.total ? t` of ${j.total}` : ''} done{j.left ? t`, ${span(j.left)} left` : ''}
              </Trans>
            </Text>
          </Box>
        ))}
        {failed.map((j) => (
          <Box key={j.id}>
            <Text fontWeight="600">{j.text}</Text>
            <Text color="shut" fontSize="sm">
              <Trans>ended early: {j.error}</Trans>
            </Text>
          </Box>
        ))}
      </Stack>
    </Part>
  );
}

function LastChanged({ mayUndo }: { mayUndo: boolean }) {
  const rows = useQuery({
    queryKey: ['journal', 'last'],
    refetchInterval: 10_000,
    queryFn: async () =>
      (await taken(api.GET('/api/v1/journal', { params: { query: { only: 'changes', limit: 6, brief: true } } }))) ??
      [],
  });
  const back = useMutation({
    mutationFn: (r: JournalRow) => undo(r.seq),
    onSuccess: async (_, r) => {
      await client.invalidateQueries();
      say(t`Taken back: ${r.action}, ${r.subject}.`);
    },
    onError: sayRefused,
  });
  return (
    <Part
      title={t`Changed last`}
      act={
        <To to="/journal">
          <Trans>Journal</Trans>
        </To>
      }
    >
      <Stack px="5" py="4" gap="3">
        {!rows.data && <Waiting error={rows.error} rows={2} />}
        {rows.data?.length === 0 && (
          <Text color="faint">
            <Trans>Nothing yet.</Trans>
          </Text>
        )}
        {rows.data?.map((r) => (
          <HStack key={r.seq} justify="space-between" align="start" gap="3">
            <Box minW="0">
              <Text wordBreak="break-word">
                <b>{r.actor}</b> {r.action}: {r.subject}
              </Text>
              <Text color="faint" fontSize="sm" title={r.at}>
                <Moment at={r.at} />
              </Text>
            </Box>
            {mayUndo && r.changes.length > 0 && r.actor !== 'service' && (
              <QuietButton
                size="xs"
                loading={back.isPending && back.variables?.seq === r.seq}
                onClick={() => back.mutate(r)}
              >
                <Trans>
                  Take back
                  <Text srOnly>row {r.seq}</Text>
                </Trans>
              </QuietButton>
            )}
          </HStack>
        ))}
      </Stack>
    </Part>
  );
}

/** From nothing to the first file, in the order in which it is done; what is done already says so. */
function FirstSteps({ volumes, mayChange }: { volumes: number; mayChange: boolean }) {
  const users = useUsers();
  const people = (users.data?.filter((u) => u.role === undefined).length ?? 0) > 0;
  const step = (n: number, done: boolean, title: string, text: string, to: string, act: string, next: boolean) => (
    <Sheet as="li" p="5" aria-label={title}>
      <Flex gap="4" align="start">
        <Flex
          boxSize="9"
          borderRadius="full"
          align="center"
          justify="center"
          flexShrink="0"
          fontWeight="700"
          bg={done ? 'open.soft' : next ? 'accent' : 'sunk'}
          color={done ? 'open' : next ? 'accent.on' : 'faint'}
        >
          {done ? '✓' : n}
        </Flex>
        <Box flex="1">
          <Text fontWeight="700">
            {title}
            {done && (
              <Text srOnly>
                <Trans>, done</Trans>
              </Text>
            )}
          </Text>
          <Text color="faint">{text}</Text>
        </Box>
        {mayChange && (
          <Link to={to}>
            {next ? <MainButton as="span">{act}</MainButton> : <QuietButton as="span">{act}</QuietButton>}
          </Link>
        )}
      </Flex>
    </Sheet>
  );
  const has = volumes > 0;
  return (
    <>
      <PageHead
        title={t`Welcome`}
        text={t`Three steps to the first file that somebody else opens. They can be left and taken up again.`}
      />
      <Stack as="ol" gap="4" listStyleType="none">
        {step(
          1,
          has,
          t`Where files lie`,
          t`A volume: a directory of this machine, on a disk with room.`,
          '/volumes',
          has ? t`See it` : t`Choose a directory`,
          !has,
        )}
        {step(
          2,
          people,
          t`Who is there`,
          t`People, by hand or from a list; they sign in to shares with their own passwords.`,
          '/people',
          people ? t`See them` : t`Put people in`,
          has && !people,
        )}
        {step(
          3,
          false,
          t`What they share`,
          t`A folder: who gets in, how it is reached, how much it holds, with what it does beside it.`,
          '/folders/new',
          t`Make a folder`,
          has && people,
        )}
      </Stack>
    </>
  );
}
