import { Box, Flex, Input, Stack } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
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
      <PageHead title={name} text={t`You hold control of this folder: you decide who gets in.`} />
      <Stack gap="6">
        <PlaceSheet place={place.data} mayChange />
        <Part title={t`Who gets in`}>
          {!who.data ? (
            <Waiting error={who.error} rows={2} />
          ) : (
            <DataTable
              rows={who.data.holders}
              rowKey={(u) => u.user}
              columns={[
                { head: t`User`, cell: (u) => u.user },
                { head: t`Over SMB`, cell: (u) => <Level level={u.level.smb} /> },
                { head: t`Over NFS`, cell: (u) => <Level level={u.level.nfs} /> },
                { head: t`Through`, cell: (u) => u.through, is: { color: 'faint' } },
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
      <PageHead title={name} text={group.data.description || t`You own this group: you decide who is in it.`} />
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
                  aria-label={t`Who is to be in it`}
                  placeholder={t`A user's name`}
                  value={member}
                  onChange={setMember}
                />
              </Box>
              <MainButton type="submit" loading={add.isPending}>
                <Trans>Put in</Trans>
              </MainButton>
            </Flex>
          </form>
        )}
        <Sheet as="section" aria-label={t`Who is in it`}>
          <DataTable
            rows={group.data.members}
            rowKey={(m) => `${m.kind}:${m.name}`}
            columns={[
              { head: t`Member`, cell: (m) => m.name },
              { head: t`Kind`, cell: (m) => m.kind, is: { color: 'faint' } },
              {
                head: `-${t`Take out`}`,
                cell: (m) =>
                  mayChange && (
                    <QuietButton
                      size="sm"
                      aria-label={t`Take ${m.name} out`}
                      onClick={() => remove.mutate(`${m.kind}:${m.name}`)}
                    >
                      <Trans>Take out</Trans>
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
    <Sheet as="section" aria-label={t`What it is`} p="5" mb="5">
      <form
        onSubmit={handleSubmit((f) => {
          const to = {
            ...(f.name.trim() !== was.name && { name: f.name.trim() }),
            ...(f.description !== was.description && { description: f.description }),
            ...(f.owners !== was.owners && { owners: listed(f.owners) }),
          };
          if (Object.keys(to).length > 0)
            ask({
              title: t`Change group ${g.name}?`,
              act: t`Change it`,
              done: t`Group ${f.name} is changed.`,
              changes: [change('group', 'change', { of: { name: g.name }, with: to })],
              refused: (e) => placeRefusal(e, form),
              after: () =>
                f.name.trim() !== was.name &&
                navigate(`/groups/${encodeURIComponent(f.name.trim())}`, { replace: true }),
            });
        })}
      >
        <Flex gap="4" wrap="wrap" align="end">
          <Entry label={t`Name`} w="52" error={formState.errors.name}>
            <Input {...register('name', { required: true })} />
          </Entry>
          <Entry label={t`What it is for`} flex="1" minW="56" error={formState.errors.description}>
            <Input maxLength={200} {...register('description')} />
          </Entry>
          <Entry label={t`Owned by`} w="64" error={formState.errors.owners}>
            <PickerField of="who" several control={control} name="owners" placeholder={t`nobody`} />
          </Entry>
          <MainButton type="submit">
            <Trans>See what it does</Trans>
          </MainButton>
          <QuietButton
            color="shut"
            onClick={() =>
              ask({
                title: t`Remove group ${g.name}?`,
                act: t`Remove it`,
                done: t`Group ${g.name} is no more.`,
                changes: [change('group', 'remove', { of: { name: g.name } })],
                after: () => navigate('/groups'),
              })
            }
          >
            <Trans>Remove it</Trans>
          </QuietButton>
        </Flex>
      </form>
      {dialog}
    </Sheet>
  );
}
