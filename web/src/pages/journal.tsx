import { Box, Checkbox, Flex, HStack, Input, Stack, Table, Text } from '@chakra-ui/react';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import { api, type Change, type JournalRow, taken, useMe } from '../api/client';
import { when } from '../parts/day';
import { Previewed } from '../parts/effect';
import { Entry } from '../parts/form';
import { Grid } from '../parts/grid';
import { PageHead, QuietButton, Sheet, Waiting } from '../parts/sheet';

const page = 60;

/** Everything that was done, by whom and when, in words; and what can be taken back. */
export function Journal() {
  const me = useMe().data;
  const [params, setParams] = useSearchParams();
  const by = params.get('by') ?? '';
  const on = params.get('on') ?? '';
  const [chosen, setChosen] = useState<number[]>([]);
  const [asking, setAsking] = useState<Change[] | null>(null);
  const rows = useInfiniteQuery({
    queryKey: ['journal', by, on],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      taken(
        api.GET('/api/v1/journal', {
          params: {
            query: {
              only: 'changes',
              limit: page,
              ...(by && { by }),
              ...(on && { on }),
              ...(pageParam > 0 && { before: pageParam }),
            },
          },
        }),
      ),
    getNextPageParam: (last) => (last && last.length === page ? last[last.length - 1]?.seq : undefined),
  });
  const narrow = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  const mayUndo = me?.role === 'administrator' || me?.role === 'operator';
  const all = rows.data?.pages.flatMap((p) => p ?? []) ?? [];
  const undo = (seqs: number[]) => setAsking([{ kind: 'rows', act: 'undo', with: { rows: seqs } }]);
  return (
    <>
      <PageHead title="Journal" text="Every change, by whom and when; each follows from the one before">
        <HStack>
          {mayUndo && chosen.length > 0 && (
            <QuietButton onClick={() => undo(chosen)}>
              Take {chosen.length === 1 ? 'it' : `the ${chosen.length}`} back
            </QuietButton>
          )}
          <a
            href={`/api/v1/journal/export?format=csv${by && `&by=${encodeURIComponent(by)}`}${on && `&on=${encodeURIComponent(on)}`}`}
          >
            <QuietButton as="span">As CSV</QuietButton>
          </a>
        </HStack>
      </PageHead>
      <Flex gap="4" mb="5" wrap="wrap">
        <Entry label="By whom" w="52">
          <Input value={by} placeholder="anybody" onChange={(e) => narrow('by', e.target.value.trim())} />
        </Entry>
        <Entry label="On what" w="72" help="A folder, a path, a user: what the change was about.">
          <Input value={on} placeholder="anything" onChange={(e) => narrow('on', e.target.value.trim())} />
        </Entry>
      </Flex>
      {!rows.data ? (
        <Waiting error={rows.error} />
      ) : all.length === 0 ? (
        <Sheet p="8">
          <Text color="faint">Nothing was changed{by || on ? ' that fits' : ' yet'}.</Text>
        </Sheet>
      ) : (
        <Sheet>
          <Grid head={['-Choose', 'Row', 'When', 'Who', 'Did', 'To', '-More']}>
            {all.map((r) => (
              <Row
                key={r.seq}
                row={r}
                mayUndo={mayUndo}
                chosen={chosen.includes(r.seq)}
                choose={(is) => setChosen((had) => (is ? [...had, r.seq] : had.filter((s) => s !== r.seq)))}
                undo={() => undo([r.seq])}
              />
            ))}
          </Grid>
        </Sheet>
      )}
      {rows.hasNextPage && (
        <QuietButton mt="4" loading={rows.isFetchingNextPage} onClick={() => rows.fetchNextPage()}>
          Earlier ones
        </QuietButton>
      )}
      <Previewed
        title="Take back?"
        act="Take back"
        done="It is taken back."
        changes={asking}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          setChosen([]);
        }}
      >
        <Text>What others have changed since stays as it is.</Text>
      </Previewed>
    </>
  );
}

function Row(props: {
  row: JournalRow;
  mayUndo: boolean;
  chosen: boolean;
  choose: (is: boolean) => void;
  undo: () => void;
}) {
  const { row: r } = props;
  const [open, setOpen] = useState(false);
  const undone = r.changes.length > 0 && r.actor !== 'service';
  return (
    <>
      <Table.Row>
        <Table.Cell w="8">
          {props.mayUndo && undone && (
            <Checkbox.Root checked={props.chosen} onCheckedChange={(e) => props.choose(e.checked === true)}>
              <Checkbox.HiddenInput aria-label={`Row ${r.seq}`} />
              <Checkbox.Control />
            </Checkbox.Root>
          )}
        </Table.Cell>
        <Table.Cell color="faint">{r.seq}</Table.Cell>
        <Table.Cell whiteSpace="nowrap" title={r.at}>
          {when(r.at)}
        </Table.Cell>
        <Table.Cell fontWeight="600">{r.actor}</Table.Cell>
        <Table.Cell whiteSpace="normal">{r.action}</Table.Cell>
        <Table.Cell whiteSpace="normal" wordBreak="break-word">
          {r.subject}
        </Table.Cell>
        <Table.Cell textAlign="end" whiteSpace="nowrap">
          <QuietButton size="xs" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? 'Fold' : 'What'}
            <Text srOnly>row {r.seq}</Text>
          </QuietButton>
          {props.mayUndo && undone && (
            <QuietButton size="xs" ms="2" onClick={props.undo}>
              Take back
              <Text srOnly>row {r.seq}</Text>
            </QuietButton>
          )}
        </Table.Cell>
      </Table.Row>
      {open && (
        <Table.Row>
          <Table.Cell colSpan={7} bg="sunk" whiteSpace="normal">
            <Words row={r.seq} />
          </Table.Cell>
        </Table.Row>
      )}
    </>
  );
}

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
      {told.data.told.length === 0 && <Text color="faint">Nothing in the records.</Text>}
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
                  {c.after ? <Text as="span">{c.after}</Text> : c.before && <Text as="span"> , gone</Text>}
                </Text>
              </Box>
            ))}
          </Box>
        </Box>
      ))}
    </Stack>
  );
}
