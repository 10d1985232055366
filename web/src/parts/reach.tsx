import { Table, Text } from '@chakra-ui/react';
import { Link } from 'react-router';
import type { Spot } from '../api/client';
import { Grid } from './grid';
import { Level } from './level';

/** Where somebody gets: the folders, and the paths on which the level changes. */
export function Reach({ user, spots, empty, maxH }: { user: string; spots: Spot[]; empty: string; maxH?: string }) {
  if (spots.length === 0)
    return (
      <Text px="5" py="3" color="faint">
        {empty}
      </Text>
    );
  return (
    <Grid head={['Path', 'Over SMB', 'Over NFS', '-Why']} maxH={maxH}>
      {spots.map((s) => (
        <Table.Row key={s.path}>
          <Table.Cell fontFamily="mono">{s.path}</Table.Cell>
          <Table.Cell>
            <Level level={s.level.smb} />
          </Table.Cell>
          <Table.Cell>
            <Level level={s.level.nfs} />
          </Table.Cell>
          <Table.Cell textAlign="end">
            <Link to={`/why?user=${encodeURIComponent(user)}&path=${encodeURIComponent(s.path)}`}>
              <Text textDecoration="underline">Ask why</Text>
            </Link>
          </Table.Cell>
        </Table.Row>
      ))}
    </Grid>
  );
}
