import { Box, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { zodResolver } from '@hookform/resolvers/zod';
import { plural, t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import { change } from '../api/change';
import { type Change, type Group, type Profile, useGroups, useMe, useProfiles } from '../api/client';
import { people as howMany, Previewed } from '../parts/effect';
import { Entry, placeRefusal } from '../parts/form';
import { PickerField } from '../parts/picker';
import { z } from '../parts/shape';
import { MainButton, PageHead, QuietButton, Sheet, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { size } from '../parts/use';
import { listed } from '../parts/words';

/** A group, and below it those that it contains: each where it is contained, however deep. */
function Branch({ group, all, above }: { group: Group; all: Map<string, Group>; above: string[] }) {
  const inner = group.members.filter((m) => m.kind === 'group');
  const people = new Set([...group.primaryOf, ...group.members.filter((m) => m.kind === 'user').map((m) => m.name)])
    .size;
  return (
    <Box
      ps={above.length > 0 ? '6' : undefined}
      borderStartWidth={above.length > 0 ? '1px' : undefined}
      borderColor="line"
    >
      <HStack py="1.5" gap="3" wrap="wrap">
        <Link to={`/groups/${encodeURIComponent(group.name)}`}>
          <Text fontWeight="600" textDecoration="underline" textDecorationColor="line">
            {group.name}
          </Text>
        </Link>
        <Text color="faint" fontSize="sm">
          <Trans>
            gid {group.gid}, {howMany(people)}
            {group.owners.length > 0 && t`, owned by ${group.owners.map((o) => o.name).join(', ')}`}
            {group.description && ` – ${group.description}`}
          </Trans>
        </Text>
      </HStack>
      {inner.map((m) => {
        const is = all.get(m.name);
        return is && !above.includes(m.name) ? (
          <Branch key={m.name} group={is} all={all} above={[...above, group.name]} />
        ) : null;
      })}
    </Box>
  );
}

/** Groups as a tree: those that no other contains first, and what they contain below them. */
export function Groups() {
  const me = useMe().data;
  const groups = useGroups();
  const [adding, setAdding] = useState(false);
  const mayChange = me?.role === 'administrator' || me?.role === 'operator';
  if (!groups.data) return <Waiting error={groups.error} />;
  const all = new Map(groups.data.map((g) => [g.name, g]));
  const within = new Set(groups.data.flatMap((g) => g.members.filter((m) => m.kind === 'group').map((m) => m.name)));
  return (
    <>
      <PageHead title={t`Groups`} text={t`Of people, and of groups`}>
        {mayChange && !adding && (
          <MainButton onClick={() => setAdding(true)}>
            <Trans>Add a group</Trans>
          </MainButton>
        )}
      </PageHead>
      {adding && <NewGroup onDone={() => setAdding(false)} />}
      <Sheet px="5" py="3" mb="8">
        {groups.data
          .filter((g) => !within.has(g.name))
          .map((g) => (
            <Branch key={g.name} group={g} all={all} above={[]} />
          ))}
      </Sheet>
      <Profiles mayChange={mayChange} />
    </>
  );
}

function NewGroup({ onDone }: { onDone: () => void }) {
  const form = useForm<{ name: string; description: string; owner: string }>();
  const { register, handleSubmit } = form;
  const wrong = form.formState.errors;
  const [asking, setAsking] = useState<Change[] | null>(null);
  return (
    <Sheet p="5" mb="6">
      <form
        onSubmit={handleSubmit((f) =>
          setAsking([
            {
              kind: 'group',
              act: 'add',
              with: { name: f.name, description: f.description, ...(f.owner && { owners: [f.owner] }) },
            },
          ]),
        )}
      >
        <Flex gap="4" align="end" wrap="wrap">
          <Entry label={t`Name`} w="200px" error={wrong.name}>
            <Input {...register('name', { required: true })} />
          </Entry>
          <Entry label={t`What it is for`} w="300px" error={wrong.description}>
            <Input {...register('description')} />
          </Entry>
          <Entry label={t`Owned by`} w="200px" error={wrong.owner}>
            <PickerField of="user" control={form.control} name="owner" placeholder={t`nobody`} />
          </Entry>
          <MainButton type="submit">
            <Trans>Add it</Trans>
          </MainButton>
          <QuietButton onClick={onDone}>
            <Trans>Leave it</Trans>
          </QuietButton>
        </Flex>
      </form>
      <Previewed
        title={t`Add the group?`}
        act={t`Add it`}
        changes={asking}
        done={t`The group is added.`}
        onRefused={(e) => placeRefusal(e, form, { owners: 'owner', principal: 'owner' })}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
    </Sheet>
  );
}

const gives = (p: Profile) =>
  [
    p.groups.length > 0 && t`in ${p.groups.join(', ')}`,
    t`may use ${[p.smb && 'SMB', p.nfs && 'NFS', p.console && t`the console`].filter(Boolean).join(', ') || t`nothing`}`,
    p.role,
    p.hardBytes !== undefined && t`stores up to ${size(p.hardBytes)}`,
    p.endsAfter && plural(p.endsAfter, { one: 'ends after # day', other: 'ends after # days' }),
  ]
    .filter(Boolean)
    .join('; ');

function Profiles({ mayChange }: { mayChange: boolean }) {
  const profiles = useProfiles();
  const [asking, setAsking] = useState<{ title: string; done: string; changes: Change[] } | null>(null);
  const [adding, setAdding] = useState(false);
  const [editing, setEditing] = useState<Profile | null>(null);
  return (
    <>
      <HStack justify="space-between" mb="3">
        <Text as="h2" fontSize="xl" fontWeight="700">
          <Trans>Profiles</Trans>
        </Text>
        {mayChange && !adding && (
          <QuietButton onClick={() => setAdding(true)}>
            <Trans>Add a profile</Trans>
          </QuietButton>
        )}
      </HStack>
      {adding && <ProfileForm onDone={() => setAdding(false)} />}
      {editing && <ProfileForm key={editing.name} profile={editing} onDone={() => setEditing(null)} />}
      <Sheet>
        {!profiles.data ? (
          <Waiting error={profiles.error} rows={2} />
        ) : profiles.data.length === 0 ? (
          <Text p="5" color="faint">
            <Trans>
              None yet. A profile is a named set of what people are given: groups, services, a limit, and for how long.
            </Trans>
          </Text>
        ) : (
          <DataTable
            rows={profiles.data}
            rowKey={(p) => p.name}
            columns={[
              {
                head: t`Profile`,
                cell: (p) => (
                  <>
                    <Text fontWeight="600">{p.name}</Text>
                    <Text color="faint" fontSize="sm">
                      {p.description}
                    </Text>
                  </>
                ),
              },
              { head: t`Gives`, cell: (p) => gives(p), is: { whiteSpace: 'normal' } },
              { head: t`People`, cell: (p) => p.people },
              {
                head: `-${t`Give again, change or remove`}`,
                cell: (p) =>
                  mayChange && (
                    <HStack justify="end">
                      {p.people > 0 && (
                        <QuietButton
                          size="sm"
                          onClick={() =>
                            setAsking({
                              title: t`Give ${howMany(p.people)} what ${p.name} says?`,
                              done: t`All have what it says.`,
                              changes: [change('profile', 'apply', { of: { name: p.name } })],
                            })
                          }
                        >
                          <Trans>Give again</Trans>
                        </QuietButton>
                      )}
                      <QuietButton size="sm" onClick={() => setEditing(p)}>
                        <Trans>
                          Change
                          <Text srOnly>profile {p.name}</Text>
                        </Trans>
                      </QuietButton>
                      {p.people === 0 && (
                        <QuietButton
                          size="sm"
                          onClick={() =>
                            setAsking({
                              title: t`Remove profile ${p.name}?`,
                              done: t`Profile ${p.name} is removed.`,
                              changes: [change('profile', 'remove', { of: { name: p.name } })],
                            })
                          }
                        >
                          <Trans>
                            Remove
                            <Text srOnly>profile {p.name}</Text>
                          </Trans>
                        </QuietButton>
                      )}
                    </HStack>
                  ),
                is: { textAlign: 'end' },
              },
            ]}
          />
        )}
      </Sheet>
      <Previewed
        title={asking?.title ?? ''}
        act={t`Do it`}
        changes={asking?.changes ?? null}
        done={asking?.done ?? ''}
        onClose={() => setAsking(null)}
        onDone={() => setAsking(null)}
      />
    </>
  );
}

const Filled = z.object({
  name: z.string().trim().min(1, t`A profile has a name, such as visitor.`),
  groups: z.string(),
  hard: z.string().trim(),
  endsAfter: z.string().regex(/^\d*$/, t`A number of days; none for never.`),
});

/** A profile to be made, or one to be changed: for those who come, or for all who have it as well. */
function ProfileForm({ profile: p, onDone }: { profile?: Profile; onDone: () => void }) {
  const was = {
    name: p?.name ?? '',
    groups: p?.groups.join(', ') ?? '',
    hard: p?.hardBytes === undefined ? '' : String(p.hardBytes),
    endsAfter: p?.endsAfter ? String(p.endsAfter) : '',
  };
  const form = useForm<z.infer<typeof Filled>>({ resolver: zodResolver(Filled), defaultValues: was });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const { register } = form;
  const wrong = form.formState.errors;
  const title = p ? t`Change profile ${p.name}` : t`A new profile`;
  return (
    <Sheet p="5" mb="4">
      <form
        aria-label={title}
        onSubmit={form.handleSubmit((f) => {
          const to = {
            ...(f.groups !== was.groups && { groups: listed(f.groups) }),
            ...(f.hard !== was.hard && { hard: f.hard || 'none' }),
            ...(f.endsAfter !== was.endsAfter && { endsAfter: Number(f.endsAfter) }),
          };
          if (!p)
            setAsking([
              change('profile', 'add', {
                with: {
                  name: f.name,
                  groups: listed(f.groups),
                  ...(f.hard && { hard: f.hard }),
                  ...(f.endsAfter && { endsAfter: Number(f.endsAfter) }),
                },
              }),
            ]);
          else if (Object.keys(to).length > 0 || f.name !== p.name)
            setAsking([
              change('profile', 'change', {
                of: { name: p.name },
                with: { ...to, ...(f.name !== p.name && { name: f.name }) },
              }),
            ]);
          else onDone();
        })}
      >
        {p && (
          <Text fontWeight="700" mb="3">
            {title}
          </Text>
        )}
        <Stack direction={{ base: 'column', md: 'row' }} gap="4" align="start">
          <Entry label={t`Name`} error={wrong.name}>
            <Input {...register('name')} />
          </Entry>
          <Entry label={t`Groups`} error={wrong.groups}>
            <PickerField of="group" several control={form.control} name="groups" placeholder={t`visitors`} />
          </Entry>
          <Entry label={t`May store`} error={wrong.hard}>
            <Input placeholder={t`2GB`} {...register('hard')} />
          </Entry>
          <Entry label={t`Ends after days`} error={wrong.endsAfter}>
            <Input inputMode="numeric" {...register('endsAfter')} />
          </Entry>
          <HStack pt="6">
            <MainButton type="submit">{p ? t`See what it does` : t`Add it`}</MainButton>
            <QuietButton onClick={onDone}>
              <Trans>Leave it</Trans>
            </QuietButton>
          </HStack>
        </Stack>
      </form>
      <Previewed
        title={p ? `${title}?` : t`Add the profile?`}
        act={p ? t`Change it` : t`Add it`}
        changes={asking}
        done={p ? t`The profile is changed, for all who have it.` : t`The profile is added.`}
        onRefused={(e) => placeRefusal(e, form)}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
    </Sheet>
  );
}
