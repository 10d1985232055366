import { Table, Text } from '@chakra-ui/react';
import type { ReactNode } from 'react';

/** A table in a sheet. A column head that is only for those who hear it begins with a dash. */
export function Grid(props: {
  head: (string | { name: string; shown: ReactNode })[];
  children: ReactNode;
  maxH?: string;
  keepFirst?: boolean;
}) {
  return (
    <Table.ScrollArea position="relative" maxH={props.maxH} tabIndex={props.maxH ? 0 : undefined}>
      <Table.Root
        size="sm"
        stickyHeader={props.maxH !== undefined}
        css={{
          '& td, & th': { borderColor: 'line', bg: 'sheet', ...(props.keepFirst && { whiteSpace: 'nowrap' }) },
          '& td:first-of-type, & th:first-of-type': {
            ps: '4',
            ...(props.keepFirst && { position: 'sticky', insetStart: 0, zIndex: 1 }),
          },
        }}
      >
        <Table.Header>
          <Table.Row>
            {props.head.map((h) =>
              typeof h === 'string' ? (
                <Table.ColumnHeader key={h} color="faint" fontWeight="500">
                  {h.startsWith('-') ? <Text srOnly>{h.slice(1)}</Text> : h}
                </Table.ColumnHeader>
              ) : (
                <Table.ColumnHeader key={h.name} fontWeight="600">
                  {h.shown}
                </Table.ColumnHeader>
              ),
            )}
          </Table.Row>
        </Table.Header>
        <Table.Body>{props.children}</Table.Body>
      </Table.Root>
    </Table.ScrollArea>
  );
}
