import { Box, Flex, HStack, Input, Table, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, taken } from '../api/client';
import { Grid } from '../parts/grid';
import { PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { Both } from './who';

const page = 50;

/** Users, or groups, against folders. */
export function MatrixPage() {
  const [groups, setGroups] = useState(false);
  const [name, setName] = useState('');
  const [from, setFrom] = useState(0);
  const query = { groups, name: name || undefined, limit: page, offset: from };
  const matrix = useQuery({
    queryKey: ['matrix', query],
    placeholderData: (had) => had,
    queryFn: () => taken(api.GET('/api/v1/matrix', { params: { query } })),
  });
  const m = matrix.data;
  return (
    <>
      <PageHead title="Matrix" text="The level of everybody at the root of each folder.">
        <HStack>
          <Input
            aria-label="Only names that hold"
            placeholder="name"
            w="36"
            value={name}
            onChange={(e) => {
              setName(e.target.value);
              setFrom(0);
            }}
          />
          <QuietButton
            aria-pressed={groups}
            onClick={() => {
              setGroups(!groups);
              setFrom(0);
            }}
          >
            {groups ? 'Show users' : 'Show groups'}
          </QuietButton>
        </HStack>
      </PageHead>
      {matrix.error ? (
        <Refused error={matrix.error} />
      ) : !m ? (
        <Waiting error={null} />
      ) : (
        <>
          <Sheet>
            <Grid
              keepFirst
              head={[
                groups ? 'Group' : 'User',
                ...m.folders.map((f) => ({
                  name: f.name,
                  shown: <Link to={`/who?path=${encodeURIComponent(f.name)}`}>{f.name}</Link>,
                })),
              ]}
            >
              {m.rows.map((r) => (
                <Table.Row key={r.who}>
                  <Table.Cell fontWeight="600">
                    {groups ? r.who : <Link to={`/who?user=${encodeURIComponent(r.who)}`}>{r.who}</Link>}
                  </Table.Cell>
                  {r.levels.map((l, i) => {
                    const f = m.folders[i];
                    return (
                      <Table.Cell key={f?.name} color={l.text === 'nothing' ? 'faint' : undefined}>
                        {l.text === 'nothing' ? '–' : <Both level={l} smb={f?.smb} nfs={f?.nfs} />}
                      </Table.Cell>
                    );
                  })}
                </Table.Row>
              ))}
            </Grid>
          </Sheet>
          <Flex mt="3" gap="3" align="center" wrap="wrap">
            {m.total > page && (
              <>
                <QuietButton size="sm" disabled={from === 0} onClick={() => setFrom(Math.max(0, from - page))}>
                  Before
                </QuietButton>
                <Text fontSize="sm" color="faint">
                  {from + 1} to {Math.min(from + page, m.total)} of {m.total}
                </Text>
                <QuietButton size="sm" disabled={from + page >= m.total} onClick={() => setFrom(from + page)}>
                  After
                </QuietButton>
              </>
            )}
            <Box flex="1" />
            <Text fontSize="sm" color="faint">
              Over NFS, from the host that may most.
            </Text>
          </Flex>
        </>
      )}
    </>
  );
}
