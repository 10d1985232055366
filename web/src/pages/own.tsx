import { Flex, Input, Stack, Table } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useParams } from 'react-router';
import { api, client, taken } from '../api/client';
import { PlaceSheet } from '../parts/entries';
import { Grid } from '../parts/grid';
import { Level } from '../parts/level';
import { MainButton, PageHead, Part, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';

/** A folder that one holds control of: what is written on it, and who gets in by that. */
export function OwnFolder() {
  const { name = '' } = useParams();
  const place = useQuery({
    queryKey: ['folders', name, 'own'],
    queryFn: () => taken(api.GET('/api/v1/entries', { params: { query: { path: name } } })),
  });
  const who = useQuery({
    queryKey: ['folders', name, 'own', 'who'],
    queryFn: () => taken(api.GET('/api/v1/who', { params: { query: { path: name, limit: 500 } } })),
  });
  if (!place.data) return <Waiting error={place.error} />;
  return (
    <>
      <PageHead title={name} text="You hold control of this folder: you decide who gets in." />
      <Stack gap="6">
        <PlaceSheet place={place.data} mayChange />
        <Part title="Who gets in">
          {!who.data ? (
            <Waiting error={who.error} rows={2} />
          ) : (
            <Grid head={['User', 'Over SMB', 'Over NFS', 'Through']}>
              {who.data.holders.map((u) => (
                <Table.Row key={u.user}>
                  <Table.Cell>{u.user}</Table.Cell>
                  <Table.Cell>
                    <Level level={u.level.smb} />
                  </Table.Cell>
                  <Table.Cell>
                    <Level level={u.level.nfs} />
                  </Table.Cell>
                  <Table.Cell color="faint">{u.through}</Table.Cell>
                </Table.Row>
              ))}
            </Grid>
          )}
        </Part>
      </Stack>
    </>
  );
}

/** A group that one owns: who is in it. */
export function OwnGroup() {
  const { name = '' } = useParams();
  const group = useQuery({
    queryKey: ['groups', name],
    queryFn: () => taken(api.GET('/api/v1/groups/{name}', { params: { path: { name } } })),
  });
  const [member, setMember] = useState('');
  const again = () => client.invalidateQueries({ queryKey: ['groups', name] });
  const add = useMutation({
    mutationFn: () => taken(api.PUT('/api/v1/groups/{name}/members/{member}', { params: { path: { name, member } } })),
    onSuccess: () => {
      setMember('');
      again();
    },
  });
  const remove = useMutation({
    mutationFn: (of: string) =>
      taken(api.DELETE('/api/v1/groups/{name}/members/{member}', { params: { path: { name, member: of } } })),
    onSuccess: again,
  });
  if (!group.data) return <Waiting error={group.error} />;
  const refused = add.error ?? remove.error;
  return (
    <>
      <PageHead title={name} text={group.data.description || 'You own this group: you decide who is in it.'} />
      <Stack gap="4">
        {refused && <Refused error={refused} />}
        <form
          onSubmit={(e) => {
            e.preventDefault();
            if (member) add.mutate();
          }}
        >
          <Flex gap="3">
            <Input
              maxW="260px"
              aria-label="Who is to be in it"
              placeholder="A user's name"
              value={member}
              onChange={(e) => setMember(e.target.value)}
            />
            <MainButton type="submit" loading={add.isPending}>
              Put in
            </MainButton>
          </Flex>
        </form>
        <Sheet as="section" aria-label="Who is in it">
          <Grid head={['Member', 'Kind', '-Take out']}>
            {group.data.members.map((m) => (
              <Table.Row key={`${m.kind}:${m.name}`}>
                <Table.Cell>{m.name}</Table.Cell>
                <Table.Cell color="faint">{m.kind}</Table.Cell>
                <Table.Cell textAlign="end">
                  <QuietButton
                    size="sm"
                    aria-label={`Take ${m.name} out`}
                    onClick={() => remove.mutate(`${m.kind}:${m.name}`)}
                  >
                    Take out
                  </QuietButton>
                </Table.Cell>
              </Table.Row>
            ))}
          </Grid>
        </Sheet>
      </Stack>
    </>
  );
}
