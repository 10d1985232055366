import { Box, Flex, Input, SimpleGrid, Tabs, Text } from '@chakra-ui/react';
import { plural, t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { lazy, Suspense, useState } from 'react';
import { Link } from 'react-router';
import { api, client, Refusal, taken, useMe } from '../api/client';
import {
  type Event,
  type LiveQuery,
  type Open,
  type Session,
  sinceOf,
  useEvents,
  useOpens,
  useSessions,
} from '../api/live';
import { Confirm } from '../parts/confirm';
import { called, OpenTable, SessionTable } from '../parts/connected';
import { Entry } from '../parts/form';
import { Moment } from '../parts/moment';
import { useParamsOf } from '../parts/params';
import { Pick } from '../parts/pick';
import { Picker } from '../parts/picker';
import { PageHead, Part, QuietButton, Sheet, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { say, sayRefused } from '../parts/toaster';

const tabs = ['sessions', 'open', 'throughput', 'refused'] as const;

// The charts bring what draws them.
const ThroughputCharts = lazy(async () => ({ default: (await import('../parts/throughput')).ThroughputCharts }));

/** Who is connected, what they hold open, and what was refused at the wire: as it is now, and what can be done about it. */
export function Live() {
  const me = useMe();
  const [params, alter] = useParamsOf();
  const of = (name: string) => params.get(name) ?? '';
  const tab = tabs.find((one) => one === of('show')) ?? 'sessions';
  const narrow = (name: string, value: string) => alter({ [name]: value.trim() }, true);
  const via = of('via');
  const asked: LiveQuery = {
    who: of('who'),
    from: of('from'),
    on: of('on'),
    ...(via === 'smb' || via === 'nfs' ? { via } : {}),
  };
  const mayEnd = me.data?.role === 'administrator';
  return (
    <>
      <PageHead title={t`Live`} text={t`Who is connected over SMB and NFS, and what they do: as it is now`} />
      <Flex gap="4" mb="5" wrap="wrap" align="start" hidden={tab === 'throughput'}>
        <Entry label={t`Who`} w="44">
          <Picker of="user" value={asked.who ?? ''} placeholder={t`anybody`} onChange={(v) => narrow('who', v)} />
        </Entry>
        <Entry label={t`In which folder`} w="60">
          <Picker of="path" value={asked.on ?? ''} placeholder={t`anywhere`} onChange={(v) => narrow('on', v)} />
        </Entry>
        {tab !== 'refused' && (
          <>
            <Entry label={t`From which host`} w="52">
              <Input
                bg="sheet"
                placeholder={t`an address, network or name`}
                value={asked.from}
                onChange={(e) => narrow('from', e.target.value)}
              />
            </Entry>
            <Entry label={t`Over`} w="32">
              <Pick bg="sheet" value={via} onChange={(e) => narrow('via', e.target.value)}>
                <option value="">{t`both`}</option>
                <option value="smb">SMB</option>
                <option value="nfs">NFS</option>
              </Pick>
            </Entry>
          </>
        )}
      </Flex>
      <Tabs.Root
        value={tab}
        onValueChange={(e) => alter({ show: e.value === 'sessions' ? '' : e.value }, true)}
        lazyMount
        unmountOnExit
        css={{ '--indicator-color': 'colors.accent' }}
      >
        <Tabs.List borderColor="line" mb="5" overflowX="auto" overflowY="hidden">
          <Tabs.Trigger value="sessions">
            <Trans>Sessions</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="open">
            <Trans>Open</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="throughput">
            <Trans>Throughput</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="refused">
            <Trans>Refused at the wire</Trans>
          </Tabs.Trigger>
        </Tabs.List>
        <Tabs.Content value="sessions" p="0">
          <Sessions asked={asked} mayEnd={mayEnd} />
        </Tabs.Content>
        <Tabs.Content value="open" p="0">
          <Opens asked={asked} mayEnd={mayEnd} />
        </Tabs.Content>
        <Tabs.Content value="throughput" p="0">
          <OverTime />
        </Tabs.Content>
        <Tabs.Content value="refused" p="0">
          <RefusedLately by={asked.who ?? ''} on={asked.on ?? ''} />
        </Tabs.Content>
      </Tabs.Root>
    </>
  );
}

const narrowed = (q: LiveQuery) => Object.values(q).some(Boolean);

/** Ends each of some, and asks before; what has ended by itself meanwhile is as it was to be. */
function useEnding<T extends { id: string }>(end: (id: string) => Promise<unknown>, done: (n: number) => string) {
  const [asking, setAsking] = useState<T[] | null>(null);
  const run = useMutation({
    mutationFn: async (all: T[]) => {
      for (const one of all)
        await end(one.id).catch((e: unknown) => {
          if (!(e instanceof Refusal && e.status === 404)) throw e;
        });
      return all.length;
    },
    onSuccess: (n) => say(done(n)),
    onError: sayRefused,
    onSettled: () => {
      setAsking(null);
      client.invalidateQueries({ queryKey: ['live'] });
    },
  });
  return { asking, ask: setAsking, run };
}

function Sessions({ asked, mayEnd }: { asked: LiveQuery; mayEnd: boolean }) {
  const all = useSessions(asked);
  const { asking, ask, run } = useEnding<Session>(
    (id) => taken(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } })),
    (n) => plural(n, { one: '# session is ended.', other: '# sessions are ended.' }),
  );
  if (!all.data) return <Waiting error={all.error} />;
  const { sessions, total } = all.data;
  const who = asking?.[0]?.who.map(called).join(', ') ?? '';
  return (
    <>
      <Shown
        n={total}
        shown={sessions.length}
        says={plural(total, { one: '# session', other: '# sessions' })}
        none={narrowed(asked) ? t`Nobody of whom that is so is connected.` : t`Nobody is connected.`}
      >
        {mayEnd && narrowed(asked) && sessions.length > 1 && (
          <QuietButton size="sm" onClick={() => ask(sessions)}>
            <Trans>End all of these</Trans>
          </QuietButton>
        )}
      </Shown>
      {sessions.length > 0 && (
        <Sheet>
          <SessionTable rows={sessions} onEnd={mayEnd ? (s) => ask([s]) : undefined} maxH="62vh" />
        </Sheet>
      )}
      <Confirm
        title={
          asking?.length === 1
            ? t`End the session of ${who}?`
            : plural(asking?.length ?? 0, { one: 'End # session?', other: 'End # sessions?' })
        }
        act={t`End`}
        busy={run.isPending}
        open={asking !== null}
        onClose={() => ask(null)}
        onAct={() => asking && run.mutate(asking)}
      >
        <Trans>
          All that is open in it is closed, and its locks are given up. What was written stays. Who still may comes back
          by themselves: to keep somebody out, change what they may.
        </Trans>
      </Confirm>
    </>
  );
}

function Opens({ asked, mayEnd }: { asked: LiveQuery; mayEnd: boolean }) {
  const all = useOpens(asked);
  const { asking, ask, run } = useEnding<Open>(
    (id) => taken(api.DELETE('/api/v1/opens/{id}', { params: { path: { id } } })),
    (n) => plural(n, { one: 'It is closed.', other: '# are closed.' }),
  );
  if (!all.data) return <Waiting error={all.error} />;
  const { opens, total } = all.data;
  const one = asking?.[0];
  return (
    <>
      <Shown
        n={total}
        shown={opens.length}
        says={plural(total, { one: '# open file, directory or pipe', other: '# open files, directories and pipes' })}
        none={narrowed(asked) ? t`Nothing of which that is so is open.` : t`Nothing is open.`}
      >
        {mayEnd && narrowed(asked) && opens.length > 1 && (
          <QuietButton size="sm" onClick={() => ask(opens)}>
            <Trans>Close all of these</Trans>
          </QuietButton>
        )}
      </Shown>
      {opens.length > 0 && (
        <Sheet>
          <OpenTable rows={opens} onClose={mayEnd ? (o) => ask([o]) : undefined} maxH="62vh" />
        </Sheet>
      )}
      <Confirm
        title={
          one && asking?.length === 1
            ? t`Close ${one.path}, open for ${called(one.who)}?`
            : plural(asking?.length ?? 0, { one: 'Close # open?', other: 'Close # opens?' })
        }
        act={t`Close`}
        busy={run.isPending}
        open={asking !== null}
        onClose={() => ask(null)}
        onAct={() => asking && run.mutate(asking)}
      >
        <Trans>
          Its locks are given up, and what was written stays. The program that has it open finds it closed, and may lose
          what it has not written yet.
        </Trans>
      </Confirm>
    </>
  );
}

/** What was asked over time, of all or of a folder, and of another beside it. */
function OverTime() {
  const [params, alter] = useParamsOf();
  const since = params.get('since') ?? '2h';
  const until = params.get('until') ?? undefined;
  const [one, other] = [params.get('of') ?? '', params.get('beside') ?? ''];
  const ranges: [string, string][] = [
    ['10min', t`ten minutes`],
    ['2h', t`two hours`],
    ['10h', t`ten hours`],
    ['2d', t`two days`],
    ['14d', t`two weeks`],
    ['90d', t`ninety days`],
  ];
  const choose = (from: string, to: string) => alter({ since: from, until: to });
  const csv = (of: string) =>
    `/api/v1/throughput/export?${new URLSearchParams({ since: sinceOf(since), ...(of && { of }), ...(until && { until }) })}`;
  return (
    <>
      <Flex gap="4" mb="5" wrap="wrap" align="end">
        <Entry label={t`Of`} w="52">
          <Picker
            of="folder"
            value={one}
            placeholder={t`all folders`}
            onChange={(v) => alter({ of: v.trim() }, true)}
          />
        </Entry>
        <Entry label={t`Beside it`} w="52">
          <Picker
            of="folder"
            value={other}
            placeholder={t`another folder`}
            onChange={(v) => alter({ beside: v.trim() }, true)}
          />
        </Entry>
        <Entry label={t`The last`} w="40">
          <Pick bg="sheet" value={until ? '' : since} onChange={(e) => alter({ since: e.target.value, until: '' })}>
            {until && <option value="">{t`as chosen`}</option>}
            {ranges.map(([value, text]) => (
              <option key={value} value={value}>
                {text}
              </option>
            ))}
          </Pick>
        </Entry>
        {until && (
          <QuietButton onClick={() => alter({ since: '', until: '' })}>
            <Trans>Up to now again</Trans>
          </QuietButton>
        )}
        <a href={csv(one)}>
          <QuietButton as="span">
            <Trans>As CSV</Trans>
          </QuietButton>
        </a>
      </Flex>
      <SimpleGrid columns={{ base: 1, xl: other ? 2 : 1 }} gap="5">
        {[one, ...(other ? [other] : [])].map((of) => (
          <Part key={of} title={of || t`All folders`}>
            <Box p="5">
              <Suspense fallback={<Waiting error={null} />}>
                <ThroughputCharts of={of || undefined} since={since} until={until} onChoose={choose} />
              </Suspense>
            </Box>
          </Part>
        ))}
      </SimpleGrid>
      <Text mt="3" fontSize="sm" color="faint">
        <Trans>Drag over a chart to look at a part of it. What is counted here is what SMB and NFS were asked.</Trans>
      </Text>
    </>
  );
}

/** How many there are, and what can be done about all of them. */
function Shown(props: { n: number; shown: number; says: string; none: string; children: React.ReactNode }) {
  return (
    <Flex justify="space-between" align="center" mb="3" gap="4" minH="9">
      <Text color="faint" aria-live="polite">
        {props.n === 0 ? props.none : props.says}
        {props.n > props.shown && <Trans>, the last {props.shown} of them here</Trans>}
      </Text>
      {props.children}
    </Flex>
  );
}

/** Where why is asked about a refusal: as whom, where and over what it was. */
const whyOf = (e: Event) =>
  `/why?${new URLSearchParams({ user: e.who, path: e.path, via: e.via.toLowerCase(), ...(e.from ? { from: e.from } : {}) })}`;

const known = /^(uid \d+|several uids|no such user|many)$/;

function RefusedLately({ by, on }: { by: string; on: string }) {
  const all = useEvents({ ...(by && { by }), ...(on && { on }), only: 'refused', limit: 200 });
  if (!all.data) return <Waiting error={all.error} />;
  return (
    <>
      <Shown
        n={all.data.length}
        shown={all.data.length}
        says={t`The latest first; the same of one person in one place is counted, minute by minute.`}
        none={by || on ? t`Nothing of which that is so was refused.` : t`Nothing was refused.`}
      >
        {null}
      </Shown>
      {all.data.length > 0 && (
        <Sheet>
          <DataTable
            label={t`Refused at the wire`}
            rows={all.data}
            rowKey={(e) => e.id}
            maxH="62vh"
            columns={[
              { head: t`When`, cell: (e) => <Moment at={e.at} /> },
              { head: t`Who`, cell: (e) => e.who, is: { fontWeight: '600' } },
              {
                head: t`Where`,
                cell: (e) => e.path,
                is: { fontFamily: 'mono', fontSize: 'sm', maxW: '320px', truncate: true },
              },
              { head: t`By the gate`, cell: (e) => e.gate },
              { head: t`Over`, cell: (e) => e.via },
              { head: t`From`, cell: (e) => e.from },
              {
                head: t`Times`,
                cell: (e) => e.count,
                is: { textAlign: 'end', fontVariantNumeric: 'tabular-nums' },
                headIs: { textAlign: 'end' },
              },
              {
                head: `-${t`Ask why`}`,
                cell: (e) =>
                  !known.test(e.who) &&
                  e.path && (
                    <Link to={whyOf(e)}>
                      <QuietButton as="span" size="xs">
                        <Trans>Ask why</Trans>
                      </QuietButton>
                    </Link>
                  ),
                is: { textAlign: 'end' },
              },
            ]}
          />
        </Sheet>
      )}
    </>
  );
}
