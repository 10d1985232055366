import { Box, Flex, HStack, Input, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { keepPreviousData, useQueries, useQuery } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import { type KeyboardEvent, memo, useCallback, useRef, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { api, type Levels, type Matrix, taken } from '../api/client';
import { useSettled } from '../api/find';
import { Both } from '../parts/level';
import { useParamsOf } from '../parts/params';
import { PageHead, QuietButton, Refused, Waiting } from '../parts/sheet';

/** How many rows and columns come at once. */
const block = 100;
const [cellW, cellH, headW, headH] = [30, 26, 150, 130];

type Asked = { groups: boolean; name: string; folder: string; at: string };

const queryOf = (asked: Asked, row: number, column: number) => ({
  queryKey: ['matrix', asked, row, column],
  staleTime: 30_000,
  queryFn: () =>
    taken(
      api.GET('/api/v1/matrix', {
        params: {
          query: {
            groups: asked.groups,
            limit: block,
            offset: row * block,
            folderLimit: block,
            folderOffset: column * block,
            ...(asked.name && { name: asked.name }),
            ...(asked.folder && { folder: asked.folder }),
            ...(asked.at && { at: asked.at }),
          },
        },
      }),
    ),
});

/** A level as a letter, and how far it reaches, from 0 to 5. */
const shades: Record<string, [letter: string, shade: number]> = {
  nothing: ['', 0],
  pass: ['p', 1],
  read: ['r', 2],
  add: ['a', 2],
  'read and add': ['ra', 3],
  change: ['c', 4],
  control: ['C', 5],
};
/** What rights go beyond a level is marked with +, what falls short of one with -, and rights without any level with *. */
const shadeOf = (level: string): [string, number] => {
  const [name, rest] = level.split(/, (?=and may|but may not)/);
  const known = shades[name ?? ''];
  if (!known) return ['*', 3];
  if (!rest) return known;
  return rest.startsWith('and') ? [`${known[0]}+`, known[1]] : [`${known[0]}-`, Math.max(known[1] - 1, 1)];
};

/** What of a pair is shown: where a folder is published by one way alone, that one. */
function shown(l: Levels, c?: { smb: boolean; nfs: boolean }) {
  if (c && !c.nfs) return { level: l.smb, differs: false };
  if (c && !c.smb) return { level: l.nfs, differs: false };
  const wider = shadeOf(l.smb)[1] >= shadeOf(l.nfs)[1] ? l.smb : l.nfs;
  return { level: wider, differs: l.smb !== l.nfs };
}

/** Users, or groups, against folders: how far each gets, as a map of shades that is as large as it has to be. */
export function MatrixPage() {
  const [params, alter] = useParamsOf();
  const asked = {
    groups: params.has('groups'),
    name: params.get('name') ?? '',
    folder: params.get('folder') ?? '',
    at: params.get('at') ?? '',
  };
  const beside = params.get('beside') ?? '';
  const set = (name: string, value: string) => {
    alter({ [name]: value }, true);
  };
  const settled = useSettled(asked, 250);
  const first = useQuery({ ...queryOf(settled, 0, 0), placeholderData: keepPreviousData });
  return (
    <>
      <PageHead title={t`Matrix`} text={t`How far everybody gets at the root of each folder`}>
        <QuietButton aria-pressed={asked.groups} onClick={() => set('groups', asked.groups ? '' : 'yes')}>
          {asked.groups ? t`Show users` : t`Show groups`}
        </QuietButton>
      </PageHead>
      <Flex gap="4" mb="4" wrap="wrap" align="end">
        <Input
          aria-label={t`Only names that hold`}
          placeholder={asked.groups ? t`group` : t`user`}
          w="40"
          value={asked.name}
          onChange={(e) => set('name', e.target.value)}
        />
        <Input
          aria-label={t`Only folders that hold`}
          placeholder={t`folder`}
          w="40"
          value={asked.folder}
          onChange={(e) => set('folder', e.target.value)}
        />
        <HStack>
          <Text fontSize="sm" color="faint">
            <Trans>changed since</Trans>
          </Text>
          <Input
            type="datetime-local"
            aria-label={t`Mark what has changed since`}
            w="56"
            max={new Date().toISOString().slice(0, 16)}
            value={beside}
            onChange={(e) => set('beside', e.target.value)}
          />
          {beside && (
            <QuietButton size="sm" onClick={() => set('beside', '')}>
              <Trans>Mark nothing</Trans>
            </QuietButton>
          )}
        </HStack>
      </Flex>
      {first.error ? (
        <Refused error={first.error} />
      ) : !first.data ? (
        <Waiting error={null} />
      ) : first.data.total === 0 || first.data.folderTotal === 0 ? (
        <Text color="faint">
          <Trans>Nobody, or nothing, of which that is so.</Trans>
        </Text>
      ) : (
        <HeatMap
          key={JSON.stringify(settled)}
          asked={settled}
          rows={first.data.total}
          columns={first.data.folderTotal}
          beside={beside ? new Date(beside).toISOString() : ''}
        />
      )}
    </>
  );
}

type At = { row: number; column: number };

function HeatMap({ asked, rows, columns, beside }: { asked: Asked; rows: number; columns: number; beside: string }) {
  const navigate = useNavigate();
  const box = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState<At>({ row: 0, column: 0 });
  const down = useVirtualizer({
    count: rows,
    getScrollElement: () => box.current,
    estimateSize: () => cellH,
    overscan: 6,
    paddingStart: headH,
    scrollPaddingStart: headH,
    initialRect: { width: 900, height: 500 },
  });
  const across = useVirtualizer({
    horizontal: true,
    count: columns,
    getScrollElement: () => box.current,
    estimateSize: () => cellW,
    overscan: 6,
    paddingStart: headW,
    scrollPaddingStart: headW,
    initialRect: { width: 900, height: 500 },
  });
  const seenRows = down.getVirtualItems();
  const seenColumns = across.getVirtualItems();
  const blocks = [...new Set(seenRows.map((r) => Math.floor(r.index / block)))].flatMap((r) =>
    [...new Set(seenColumns.map((c) => Math.floor(c.index / block)))].map((c) => [r, c] as const),
  );
  const of = (a: Asked) => blocks.map(([r, c]) => queryOf(a, r, c));
  const is = useQueries({ queries: of(asked) });
  const was = useQueries({ queries: beside ? of({ ...asked, at: beside }) : [] });
  const find = (list: typeof is, row: number, column: number): Matrix | undefined =>
    list[blocks.findIndex(([r, c]) => r === Math.floor(row / block) && c === Math.floor(column / block))]?.data;
  const rowOf = (row: number) => find(is, row, seenColumns[0]?.index ?? 0)?.rows[row % block];
  const folderOf = (column: number) => find(is, seenRows[0]?.index ?? 0, column)?.folders[column % block];
  const levelOf = (row: number, column: number) => find(is, row, column)?.rows[row % block]?.levels[column % block];
  /** How it was: looked for by name, since people and folders may have come or gone. */
  const before = (who?: string, folder?: string) => {
    if (!beside || !who || !folder) return undefined;
    for (const q of was) {
      const c = q.data?.folders.findIndex((f) => f.name === folder) ?? -1;
      const r = c >= 0 ? q.data?.rows.find((one) => one.who === who) : undefined;
      if (r) return r.levels[c];
    }
    return was.length > 0 && was.every((q) => q.data) ? nothing : undefined;
  };
  const who = rowOf(at.row)?.who;
  const folder = folderOf(at.column)?.name;
  const open = (row: number, column: number) => {
    const [w, f] = [rowOf(row), folderOf(column)];
    if (w && f)
      navigate(
        w.kind === 'user'
          ? `/why?user=${encodeURIComponent(w.who)}&path=${encodeURIComponent(f.name)}`
          : `/who?path=${encodeURIComponent(f.name)}`,
      );
  };
  const latest = useRef(open);
  latest.current = open;
  const opened = useCallback((row: number, column: number) => latest.current(row, column), []);
  const press = (e: KeyboardEvent) => {
    const moves: Record<string, [number, number]> = {
      ArrowUp: [-1, 0],
      ArrowDown: [1, 0],
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      PageUp: [-15, 0],
      PageDown: [15, 0],
      Home: [0, -columns],
      End: [0, columns],
    };
    if (e.key === 'Enter') return open(at.row, at.column);
    const by = moves[e.key];
    if (!by) return;
    e.preventDefault();
    const next = {
      row: Math.min(Math.max(at.row + by[0], 0), rows - 1),
      column: Math.min(Math.max(at.column + by[1], 0), columns - 1),
    };
    setAt(next);
    down.scrollToIndex(next.row);
    across.scrollToIndex(next.column);
  };
  const now = levelOf(at.row, at.column);
  const then = before(who, folder);
  return (
    <>
      <Box
        ref={box}
        role="grid"
        aria-label={t`How far everybody gets in each folder`}
        aria-rowcount={rows + 1}
        aria-colcount={columns + 1}
        aria-activedescendant={`cell-${at.row}-${at.column}`}
        tabIndex={0}
        onKeyDown={press}
        overflow="auto"
        maxH="62vh"
        w="fit-content"
        maxW="full"
        bg="sheet"
        borderWidth="1px"
        borderColor="line"
        borderRadius="lg"
        position="relative"
        css={looks}
      >
        <Box position="relative" h={`${down.getTotalSize()}px`} w={`${across.getTotalSize()}px`}>
          <Box role="row" position="sticky" top="0" zIndex="2" h={`${headH}px`} bg="sheet">
            <Box role="columnheader" position="sticky" left="0" w={`${headW}px`} h="full" bg="sheet" zIndex="3">
              <Text srOnly>{asked.groups ? t`Group` : t`User`}</Text>
            </Box>
            {seenColumns.map((c) => (
              // biome-ignore lint/a11y/useSemanticElements: no table is drawn of which only a part is there
              // biome-ignore lint/a11y/useFocusableInteractive: the grid has the focus, and says which cell it is on
              <div
                key={c.key}
                role="columnheader"
                className="column"
                style={{ left: c.start, fontWeight: c.index === at.column ? 700 : 500 }}
              >
                <span>
                  <Link to={`/folders/${encodeURIComponent(folderOf(c.index)?.name ?? '')}`} tabIndex={-1}>
                    {folderOf(c.index)?.name ?? '…'}
                  </Link>
                </span>
              </div>
            ))}
          </Box>
          {seenRows.map((r) => {
            const row = rowOf(r.index);
            return (
              // biome-ignore lint/a11y/useSemanticElements: as above
              // biome-ignore lint/a11y/useFocusableInteractive: as above
              <div key={r.key} role="row" aria-rowindex={r.index + 2} className="row" style={{ top: r.start }}>
                {/* biome-ignore lint/a11y/useSemanticElements: as above */}
                {/* biome-ignore lint/a11y/useFocusableInteractive: as above */}
                <div role="rowheader" className="person" style={{ fontWeight: r.index === at.row ? 700 : 500 }}>
                  {row?.kind === 'user' ? (
                    <Link to={`/people/${encodeURIComponent(row.who)}`} tabIndex={-1}>
                      {row.who}
                    </Link>
                  ) : (
                    (row?.who ?? '…')
                  )}
                </div>
                {seenColumns.map((c) => (
                  <Cell
                    key={c.key}
                    row={r.index}
                    index={c.index}
                    left={c.start}
                    level={levelOf(r.index, c.index)}
                    column={folderOf(c.index)}
                    was={before(row?.who, folderOf(c.index)?.name)}
                    here={r.index === at.row && c.index === at.column}
                    onAt={setAt}
                    onOpen={opened}
                  />
                ))}
              </div>
            );
          })}
        </Box>
      </Box>
      <Flex mt="3" gap="6" wrap="wrap" justify="space-between" fontSize="sm">
        <Box aria-live="polite" minH="6">
          {who && folder && now && (
            <Text as="div">
              <Trans>
                <b>{who}</b> on <b>{folder}</b>: <Both level={now} />
                {then && then.text !== now.text && (
                  <Text as="span" color="accent">
                    {' '}
                    <Trans>was {then.text}</Trans>
                  </Text>
                )}{' '}
                <Text as="span" color="faint">
                  (Enter asks why)
                </Text>
              </Trans>
            </Text>
          )}
        </Box>
        <HStack gap="3" color="faint" wrap="wrap">
          {['pass', 'read', 'add', 'change', 'control'].map((l) => (
            <HStack key={l} gap="1.5">
              <Swatch level={l} />
              {l}
            </HStack>
          ))}
          <HStack gap="1.5">
            <Trans>
              <Swatch level="read" differs />
              SMB and NFS differ
            </Trans>
          </HStack>
          {beside && (
            <HStack gap="1.5">
              <Trans>
                <Swatch level="read" changed />
                changed
              </Trans>
            </HStack>
          )}
        </HStack>
      </Flex>
      <Text fontSize="sm" color="faint" mt="1">
        <Trans>
          {rows} by {columns}. Over NFS, from the host that may most.
        </Trans>
      </Text>
    </>
  );
}

const nothing: Levels = { smb: 'nothing', nfs: 'nothing', text: t`nothing` };

/** How a shade looks: amber by how far it reaches, and a letter for who does not go by shades. */
const look = (shade: number) => ({
  background:
    shade === 0
      ? 'transparent'
      : `color-mix(in oklab, var(--chakra-colors-accent) ${[0, 12, 26, 40, 58, 92][shade]}%, var(--chakra-colors-sheet))`,
  color: shade >= 5 ? 'var(--chakra-colors-accent-on)' : 'var(--chakra-colors-ink)',
});

// What moves as one scrolls has its place in its own style: a rule for each would have the browser look at all of them again.
const looks = {
  '& .column': {
    position: 'absolute',
    top: 0,
    width: `${cellW}px`,
    height: `${headH}px`,
    display: 'flex',
    alignItems: 'end',
    justifyContent: 'center',
    paddingBottom: '2',
    fontSize: 'sm',
  },
  '& .column > span': {
    writingMode: 'vertical-rl',
    transform: 'rotate(180deg)',
    maxHeight: `${headH - 12}px`,
    overflow: 'hidden',
    textOverflow: 'ellipsis',
    whiteSpace: 'nowrap',
  },
  '& .row': { position: 'absolute', left: 0, height: `${cellH}px`, width: 'full' },
  '& .person': {
    position: 'sticky',
    left: 0,
    zIndex: 1,
    width: `${headW}px`,
    height: 'full',
    paddingInline: '3',
    background: 'sheet',
    fontSize: 'sm',
    lineHeight: `${cellH}px`,
    overflow: 'hidden',
    textOverflow: 'ellipsis',
    whiteSpace: 'nowrap',
  },
  '& .cell': {
    position: 'absolute',
    top: 0,
    width: `${cellW - 1}px`,
    height: `${cellH - 1}px`,
    fontSize: '12px',
    lineHeight: `${cellH - 1}px`,
    textAlign: 'center',
    cursor: 'pointer',
    outline: '1px solid var(--chakra-colors-line)',
    outlineOffset: '-1px',
  },
  ...Object.fromEntries([1, 2, 3, 4, 5].map((shade) => [`& .shade-${shade}`, look(shade)])),
  '& .cell::after': { content: 'attr(data-letter)' },
  '& .cell.changed': { outline: '2px solid var(--chakra-colors-ink)' },
  '& .cell[aria-selected=true]': { outline: '2px solid var(--chakra-colors-accent)' },
} as const;

/** A corner that is folded: over one protocol it is otherwise. */
const split = 'linear-gradient(135deg, transparent 80%, var(--chakra-colors-ink) 80%)';

function Swatch({ level, differs, changed }: { level: string; differs?: boolean; changed?: boolean }) {
  const [letter, shade] = shadeOf(level);
  const is = look(shade);
  return (
    <span
      aria-hidden
      style={{
        ...is,
        width: 22,
        height: 18,
        fontSize: 11,
        lineHeight: '18px',
        textAlign: 'center',
        display: 'inline-block',
        backgroundImage: differs ? split : undefined,
        outline: changed ? '2px solid var(--chakra-colors-ink)' : undefined,
        outlineOffset: -2,
      }}
    >
      {letter}
    </span>
  );
}

/** Drawn anew only when it is otherwise: of thousands, few are as one scrolls. */
const Cell = memo(function Cell(props: {
  row: number;
  index: number;
  left: number;
  level?: Levels;
  column?: { smb: boolean; nfs: boolean };
  was?: Levels;
  here: boolean;
  onAt: (at: At) => void;
  onOpen: (row: number, column: number) => void;
}) {
  const { row, index, level, was, here } = props;
  const is = level && shown(level, props.column);
  const [letter, shade] = is ? shadeOf(is.level) : ['', 0];
  const changed = was && level && was.text !== level.text;
  return (
    // biome-ignore lint/a11y/useSemanticElements: no table is drawn of which only a part is there
    // biome-ignore lint/a11y/useFocusableInteractive: the grid has the focus, and says which cell it is on
    // biome-ignore lint/a11y/useKeyWithClickEvents: Enter on the grid does the same
    <div
      role="gridcell"
      className={`cell shade-${shade}${changed ? ' changed' : ''}`}
      id={`cell-${row}-${index}`}
      aria-colindex={index + 2}
      aria-selected={here}
      aria-label={level?.text ?? t`on its way`}
      data-letter={letter}
      onMouseEnter={() => props.onAt({ row, column: index })}
      onClick={() => props.onOpen(row, index)}
      style={{
        left: props.left,
        backgroundImage: is?.differs ? split : undefined,
      }}
    />
  );
});
