import { Text } from '@chakra-ui/react';
import { Link } from 'react-router';
import type { Spot } from '../api/client';
import { Level } from './level';
import { DataTable } from './table';

/** Where somebody gets: the folders, and the paths on which the level changes. */
export function Reach({ user, spots, empty, maxH }: { user: string; spots: Spot[]; empty: string; maxH?: string }) {
  if (spots.length === 0)
    return (
      <Text px="5" py="3" color="faint">
        {empty}
      </Text>
    );
  return (
    <DataTable
      rows={spots}
      rowKey={(s) => s.path}
      maxH={maxH}
      columns={[
        { head: 'Path', cell: (s) => s.path, is: { fontFamily: 'mono' } },
        { head: 'Over SMB', cell: (s) => <Level level={s.level.smb} /> },
        { head: 'Over NFS', cell: (s) => <Level level={s.level.nfs} /> },
        {
          head: '-Why',
          cell: (s) => (
            <Link to={`/why?user=${encodeURIComponent(user)}&path=${encodeURIComponent(s.path)}`}>
              <Text textDecoration="underline">Ask why</Text>
            </Link>
          ),
          is: { textAlign: 'end' },
        },
      ]}
    />
  );
}
