import { Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
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
        { head: t`Path`, cell: (s) => s.path, is: { fontFamily: 'mono' } },
        { head: t`Over SMB`, cell: (s) => <Level level={s.level.smb} /> },
        { head: t`Over NFS`, cell: (s) => <Level level={s.level.nfs} /> },
        {
          head: `-${t`Why`}`,
          cell: (s) => (
            <Link to={`/why?user=${encodeURIComponent(user)}&path=${encodeURIComponent(s.path)}`}>
              <Text textDecoration="underline">
                <Trans>Ask why</Trans>
              </Text>
            </Link>
          ),
          is: { textAlign: 'end' },
        },
      ]}
    />
  );
}
