import { Box, Flex, Input, Stack } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { useNavigate, useParams } from 'react-router';
import { change } from '../api/change';
import { api, client, type Group, taken, useMe } from '../api/client';
import { useAsk } from '../parts/effect';
import { PlaceSheet } from '../parts/entries';
import { Entry, placeRefusal } from '../parts/form';
import { Level } from '../parts/level';
import { Picker, PickerField } from '../parts/picker';
import { MainButton, PageHead, Part, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { listed } from '../parts/words';

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
            <DataTable
              rows={who.data.holders}
              rowKey={(u) => u.user}
              columns={[
                { head: 'User', cell: (u) => u.user },
                { head: 'Over SMB', cell: (u) => <Level level={u.level.smb} /> },
                { head: 'Over NFS', cell: (u) => <Level level={u.level.nfs} /> },
                { head: 'Through', cell: (u) => u.through, is: { color: 'faint' } },
              ]}
            />
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
  const me = useMe().data;
  const looksAfter = me?.role === 'administrator' || me?.role === 'operator';
  const mayChange = looksAfter || (me?.owns.includes(name) ?? false);
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
      {looksAfter && <GroupSettings group={group.data} />}
      <Stack gap="4">
        {refused && <Refused error={refused} />}
        {mayChange && (
          <form
            onSubmit={(e) => {
              e.preventDefault();
              if (member) add.mutate();
            }}
          >
            <Flex gap="3">
              <Box w="260px">
                <Picker
                  of="who"
                  aria-label="Who is to be in it"
                  placeholder="A user's name"
                  value={member}
                  onChange={setMember}
                />
              </Box>
              <MainButton type="submit" loading={add.isPending}>
                Put in
              </MainButton>
            </Flex>
          </form>
        )}
        <Sheet as="section" aria-label="Who is in it">
          <DataTable
            rows={group.data.members}
            rowKey={(m) => `${m.kind}:${m.name}`}
            columns={[
              { head: 'Member', cell: (m) => m.name },
              { head: 'Kind', cell: (m) => m.kind, is: { color: 'faint' } },
              {
                head: '-Take out',
                cell: (m) =>
                  mayChange && (
                    <QuietButton
                      size="sm"
                      aria-label={`Take ${m.name} out`}
                      onClick={() => remove.mutate(`${m.kind}:${m.name}`)}
                    >
                      Take out
                    </QuietButton>
                  ),
                is: { textAlign: 'end' },
              },
            ]}
          />
        </Sheet>
      </Stack>
    </>
  );
}

/** What a group is called, what it is for, who owns it, and its end: for those who look after people. */
function GroupSettings({ group: g }: { group: Group }) {
  const navigate = useNavigate();
  const was = { name: g.name, description: g.description ?? '', owners: g.owners.map((o) => o.name).join(', ') };
  const form = useForm({ defaultValues: was });
  const [ask, dialog] = useAsk();
  const { register, control, handleSubmit, formState } = form;
  return (
    <Sheet as="section" aria-label="What it is" p="5" mb="5">
      <form
        onSubmit={handleSubmit((f) => {
          const to = {
            ...(f.name.trim() !== was.name && { name: f.name.trim() }),
            ...(f.description !== was.description && { description: f.description }),
            ...(f.owners !== was.owners && { owners: listed(f.owners) }),
          };
          if (Object.keys(to).length > 0)
            ask({
              title: `Change group ${g.name}?`,
              act: 'Change it',
              done: `Group ${f.name} is changed.`,
              changes: [change('group', 'change', { of: { name: g.name }, with: to })],
              refused: (e) => placeRefusal(e, form),
              after: () =>
                f.name.trim() !== was.name &&
                navigate(`/groups/${encodeURIComponent(f.name.trim())}`, { replace: true }),
            });
        })}
      >
        <Flex gap="4" wrap="wrap" align="end">
          <Entry label="Name" w="52" error={formState.errors.name}>
            <Input {...register('name', { required: true })} />
          </Entry>
          <Entry label="What it is for" flex="1" minW="56" error={formState.errors.description}>
            <Input maxLength={200} {...register('description')} />
          </Entry>
          <Entry label="Owned by" w="64" error={formState.errors.owners}>
            <PickerField of="who" several control={control} name="owners" placeholder="nobody" />
          </Entry>
          <MainButton type="submit">See what it does</MainButton>
          <QuietButton
            color="shut"
            onClick={() =>
              ask({
                title: `Remove group ${g.name}?`,
                act: 'Remove it',
                done: `Group ${g.name} is no more.`,
                changes: [change('group', 'remove', { of: { name: g.name } })],
                after: () => navigate('/groups'),
              })
            }
          >
            Remove it
          </QuietButton>
        </Flex>
      </form>
      {dialog}
    </Sheet>
  );
}
