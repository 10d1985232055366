import { Box, Checkbox, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Plural, Trans } from '@lingui/react/macro';
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { change, endOfDay } from '../api/change';
import { api, type Change, type JournalRow, taken, useMe } from '../api/client';
import { useSettled } from '../api/find';
import { lookAt } from '../api/past';
import { Previewed } from './effect';
import { Moment } from './moment';
import { QuietButton, Sheet, Waiting } from './sheet';
import { DataTable } from './table';

const page = 60;

/** The moment at which a day begins, or, for until, ends. */
export const boundOf = (name: string, day: string) =>
  name === 'since' ? new Date(`${day}T00:00`).toISOString() : name === 'until' ? endOfDay(day) : day;

/** The changes that fit, the latest first, each to be read in words, taken back, or looked back to. */
export function JournalRows(asked: { by?: string; on?: string; since?: string; until?: string }) {
  const me = useMe().data;
  const [opened, setOpened] = useState<number[]>([]);
  const [chosen, setChosen] = useState<number[]>([]);
  const [asking, setAsking] = useState<Change[] | null>(null);
  const settled = useSettled(asked);
  const rows = useInfiniteQuery({
    queryKey: ['journal', settled],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    queryFn: async ({ pageParam }): Promise<JournalRow[]> =>
      (await taken(
        api.GET('/api/v1/journal', {
          params: {
            query: {
              only: 'changes',
              brief: true,
              limit: page,
              ...(settled.by && { by: settled.by }),
              ...(settled.on && { on: settled.on }),
              ...(settled.since && { since: boundOf('since', settled.since) }),
              ...(settled.until && { until: boundOf('until', settled.until) }),
              ...(pageParam > 0 && { before: pageParam }),
            },
          },
        }),
      )) ?? [],
    getNextPageParam: (last) => (last && last.length === page ? last[last.length - 1]?.seq : undefined),
  });
  const mayUndo = me?.role === 'administrator' || me?.role === 'operator';
  const all = rows.data?.pages.flatMap((p) => p ?? []) ?? [];
  const undo = (seqs: number[]) => setAsking([change('rows', 'undo', { with: { rows: seqs } })]);
  const narrowed = Object.values(asked).some(Boolean);
  return (
    <>
      {mayUndo && chosen.length > 0 && (
        <QuietButton mb="4" onClick={() => undo(chosen)}>
          <Plural value={chosen.length} one="Take it back" other="Take the # back" />
        </QuietButton>
      )}
      {!rows.data ? (
        <Waiting error={rows.error} />
      ) : all.length === 0 ? (
        <Sheet p="8">
          <Text color="faint">{narrowed ? t`Nothing was changed that fits.` : t`Nothing was changed yet.`}</Text>
        </Sheet>
      ) : (
        <Sheet>
          <DataTable
            label={t`What was changed`}
            rows={all}
            rowKey={(r) => r.seq}
            onEnd={rows.hasNextPage && !rows.isFetchingNextPage ? rows.fetchNextPage : undefined}
            under={(r) => opened.includes(r.seq) && <Words row={r.seq} />}
            columns={[
              {
                head: `-${t`Choose`}`,
                cell: (r) =>
                  mayUndo &&
                  canBeUndone(r) && (
                    <Checkbox.Root
                      checked={chosen.includes(r.seq)}
                      onCheckedChange={(e) => setChosen(toggled(chosen, r.seq, e.checked === true))}
                    >
                      <Checkbox.HiddenInput aria-label={t`Row ${r.seq}`} />
                      <Checkbox.Control />
                    </Checkbox.Root>
                  ),
                is: { w: '8' },
              },
              { head: t`Row`, cell: (r) => r.seq, is: { color: 'faint' } },
              { head: t`When`, cell: (r) => <Moment at={r.at} />, is: { whiteSpace: 'nowrap' } },
              { head: t`Who`, cell: (r) => r.actor, is: { fontWeight: '600' } },
              { head: t`Did`, cell: (r) => r.action, is: { whiteSpace: 'normal' } },
              { head: t`To`, cell: (r) => r.subject, is: { whiteSpace: 'normal', wordBreak: 'break-word' } },
              {
                head: `-${t`More`}`,
                cell: (r) => (
                  <>
                    <QuietButton
                      size="xs"
                      aria-expanded={opened.includes(r.seq)}
                      onClick={() => setOpened(toggled(opened, r.seq, !opened.includes(r.seq)))}
                    >
                      {opened.includes(r.seq) ? t`Fold` : t`What`}
                      <Text srOnly>
                        <Trans>row {r.seq}</Trans>
                      </Text>
                    </QuietButton>
                    <QuietButton size="xs" ms="2" onClick={() => lookAt(r.at)}>
                      <Trans>
                        As of then
                        <Text srOnly>row {r.seq}</Text>
                      </Trans>
                    </QuietButton>
                    {mayUndo && canBeUndone(r) && (
                      <QuietButton size="xs" ms="2" onClick={() => undo([r.seq])}>
                        <Trans>
                          Take back
                          <Text srOnly>row {r.seq}</Text>
                        </Trans>
                      </QuietButton>
                    )}
                  </>
                ),
                is: { textAlign: 'end', whiteSpace: 'nowrap' },
              },
            ]}
          />
        </Sheet>
      )}
      <Previewed
        title={t`Take back?`}
        act={t`Take back`}
        done={t`It is taken back.`}
        changes={asking}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          setChosen([]);
        }}
      >
        <Text>
          <Trans>What others have changed since stays as it is.</Trans>
        </Text>
      </Previewed>
    </>
  );
}

const canBeUndone = (r: JournalRow) => r.changes.length > 0 && r.actor !== 'service';
const toggled = (list: number[], seq: number, is: boolean) => (is ? [...list, seq] : list.filter((s) => s !== seq));

/** A change in words: what was, and what is. */
function Words({ row }: { row: number }) {
  const told = useQuery({
    queryKey: ['journal', 'row', row],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => taken(api.GET('/api/v1/journal/{row}', { params: { path: { row } } })),
  });
  if (!told.data) return <Waiting error={told.error} rows={1} />;
  return (
    <Stack gap="3" py="1">
      {told.data.told.length === 0 && (
        <Text color="faint">
          <Trans>Nothing in the records.</Trans>
        </Text>
      )}
      {told.data.told.map((t) => (
        <Box key={`${t.kind} ${t.id}`}>
          <Text fontWeight="600">
            {t.kind} {t.name}, {t.act}
          </Text>
          <Box as="dl" display="grid" gridTemplateColumns="max-content 1fr" columnGap="4" fontSize="sm">
            {t.changed.map((c) => (
              <Box key={c.name} display="contents">
                <Text as="dt" color="faint">
                  {c.name}
                </Text>
                <Text as="dd" wordBreak="break-word">
                  {c.before && (
                    <Text as="span" textDecoration={c.after ? 'line-through' : undefined} color="shut">
                      {c.before}
                    </Text>
                  )}
                  {c.before && c.after && ' '}
                  {c.after ? (
                    <Text as="span">{c.after}</Text>
                  ) : (
                    c.before && (
                      <Text as="span">
                        {' '}
                        <Trans>, gone</Trans>
                      </Text>
                    )
                  )}
                </Text>
              </Box>
            ))}
          </Box>
        </Box>
      ))}
    </Stack>
  );
}
