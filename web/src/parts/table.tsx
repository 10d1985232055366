import { Table, type TableCellProps, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { createSortedRowModel, rowSortingFeature, type SortFn, tableFeatures, useTable } from '@tanstack/react-table';
import { useVirtualizer } from '@tanstack/react-virtual';
import { Fragment, type ReactNode, useEffect, useMemo, useRef, useState } from 'react';

const features = tableFeatures({ rowSortingFeature, sortedRowModel: createSortedRowModel() });

/** One column of a table. */
export type Column<T> = {
  /** What stands above it. One that is only for those who hear it begins with a dash. */
  head: string;
  /** What is shown above it in the place of its name. */
  shown?: ReactNode;
  cell: (row: T) => ReactNode;
  /** How its cells look; what depends on the row is a function of it. */
  is?: TableCellProps | ((row: T) => TableCellProps);
  /** How its head looks beside that. */
  headIs?: TableCellProps;
  /** What rows are put in order by, when its head is pressed. */
  by?: (row: T) => string | number;
};

const many = 80;
const sortFn: SortFn<typeof features, never> = (a, b, id) => {
  const [x, y] = [a.getValue(id), b.getValue(id)] as [string | number, string | number];
  return typeof x === 'number' && typeof y === 'number' ? x - y : String(x).localeCompare(String(y));
};

/**
 * A table in a sheet. Of many rows only those are drawn that are seen, in a box of its own that scrolls; near the end of it onEnd is
 * called, to fetch more.
 */
export function DataTable<T>(props: {
  label?: string;
  columns: Column<T>[];
  rows: T[];
  rowKey: (row: T) => string | number;
  /** How high it is at most, where it scrolls by itself. */
  maxH?: string;
  /** The first column stays where it is while the others are scrolled. */
  keepFirst?: boolean;
  onEnd?: () => void;
  /** What stands below a row, over all columns, while it is opened. */
  under?: (row: T) => ReactNode;
  /** Which row is the chosen one. */
  chosen?: (row: T) => boolean;
}) {
  const { columns, rows, rowKey, keepFirst, onEnd } = props;
  const table = useTable({
    features,
    data: rows as never[],
    getRowId: (row) => String(rowKey(row as T)),
    columns: useMemo(
      () =>
        columns.map((c, i) => ({
          id: String(i),
          header: c.head,
          accessorFn: (row: never) => c.by?.(row as T) ?? '',
          enableSorting: c.by !== undefined,
          sortFn,
          sortDescFirst: false,
        })),
      [columns],
    ),
  });
  const shown = table.getRowModel().rows;
  const box = useRef<HTMLDivElement>(null);
  const scrolls = props.maxH !== undefined || shown.length > many;
  const virtual = useVirtualizer({
    count: shown.length,
    enabled: shown.length > many,
    getScrollElement: () => box.current,
    estimateSize: () => 45,
    overscan: 12,
    initialRect: { width: 1000, height: 700 },
    getItemKey: (i) => shown[i]?.id ?? i,
  });
  const few = shown.length <= many;
  const drawn = few ? shown.map((row, index) => ({ row, index })) : [];
  if (!few)
    for (const v of virtual.getVirtualItems()) {
      const row = shown[v.index];
      if (row) drawn.push({ row, index: v.index });
    }
  const before = few ? 0 : (virtual.getVirtualItems()[0]?.start ?? 0);
  const after = few ? 0 : virtual.getTotalSize() - (virtual.getVirtualItems().at(-1)?.end ?? 0);
  // What has to be scrolled to be read can be come to by keys.
  const [wide, setWide] = useState(false);
  useEffect(() => {
    const at = box.current;
    if (!at) return;
    const look = new ResizeObserver(() => setWide(at.scrollWidth > at.clientWidth + 1));
    look.observe(at);
    return () => look.disconnect();
  }, []);
  const focusable = scrolls || wide;
  const last = drawn.at(-1)?.index ?? -1;
  useEffect(() => {
    if (last >= shown.length - 20) onEnd?.();
  }, [last, shown.length, onEnd]);
  const one = (row: T, key: string, index?: number) => {
    const under = props.under?.(row);
    return (
      <Fragment key={key}>
        <Table.Row aria-rowindex={index === undefined ? undefined : index + 2} aria-selected={props.chosen?.(row)}>
          {columns.map((c) => (
            <Table.Cell key={c.head} {...(typeof c.is === 'function' ? c.is(row) : c.is)}>
              {c.cell(row)}
            </Table.Cell>
          ))}
        </Table.Row>
        {under && (
          <Table.Row>
            <Table.Cell colSpan={columns.length} bg="sunk" whiteSpace="normal">
              {under}
            </Table.Cell>
          </Table.Row>
        )}
      </Fragment>
    );
  };
  return (
    <Table.ScrollArea
      ref={box}
      position="relative"
      maxH={props.maxH ?? (scrolls ? '70vh' : undefined)}
      tabIndex={focusable ? 0 : undefined}
      role={focusable ? 'group' : undefined}
      aria-label={focusable ? t`A table that scrolls` : undefined}
      css={{ overflowAnchor: 'none' }}
    >
      <Table.Root
        size="sm"
        aria-label={props.label}
        aria-rowcount={few ? undefined : shown.length + 1}
        stickyHeader={scrolls}
        css={{
          '& td, & th': { borderColor: 'line', bg: 'sheet', ...(keepFirst && { whiteSpace: 'nowrap' }) },
          '& td:first-of-type, & th:first-of-type': {
            ps: '4',
            ...(keepFirst && { position: 'sticky', insetStart: 0, zIndex: 1 }),
          },
        }}
      >
        <Table.Header>
          <Table.Row>
            {table.getHeaderGroups()[0]?.headers.map((h, i) => {
              const c = columns[i];
              if (!c) return null;
              const sorted = h.column.getIsSorted();
              return (
                <Table.ColumnHeader
                  key={h.id}
                  color={c.shown ? undefined : 'faint'}
                  fontWeight={c.shown ? '600' : '500'}
                  aria-sort={sorted ? (sorted === 'asc' ? 'ascending' : 'descending') : undefined}
                  {...c.headIs}
                >
                  {c.shown ??
                    (c.head.startsWith('-') ? (
                      <Text srOnly>{c.head.slice(1)}</Text>
                    ) : c.by ? (
                      <Text as="button" cursor="pointer" fontWeight="500" onClick={() => h.column.toggleSorting()}>
                        {c.head}
                        <Text as="span" aria-hidden>
                          {sorted === 'asc' ? ' ↑' : sorted === 'desc' ? ' ↓' : ''}
                        </Text>
                      </Text>
                    ) : (
                      c.head
                    ))}
                </Table.ColumnHeader>
              );
            })}
          </Table.Row>
        </Table.Header>
        {few ? (
          <Table.Body>{drawn.map(({ row }) => one(row.original as T, row.id))}</Table.Body>
        ) : (
          <>
            {before > 0 && <Gap height={before} columns={columns.length} />}
            {drawn.map(({ row, index }) => (
              <Table.Body key={row.id} ref={virtual.measureElement} data-index={index}>
                {one(row.original as T, row.id, index)}
              </Table.Body>
            ))}
            {after > 0 && <Gap height={after} columns={columns.length} />}
          </>
        )}
      </Table.Root>
    </Table.ScrollArea>
  );
}

/** The room of rows that are not drawn. */
const Gap = ({ height, columns }: { height: number; columns: number }) => (
  <tbody aria-hidden>
    <tr>
      <td colSpan={columns} style={{ height, padding: 0, border: 0 }} />
    </tr>
  </tbody>
);
