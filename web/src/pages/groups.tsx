import { Box, Flex, HStack, Input, Stack, Table, Text } from '@chakra-ui/react';
import { zodResolver } from '@hookform/resolvers/zod';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import { type Change, type Group, type Profile, useGroups, useMe, useProfiles } from '../api/client';
import { people as howMany, Previewed } from '../parts/effect';
import { Entry, placeRefusal } from '../parts/form';
import { Grid } from '../parts/grid';
import { z } from '../parts/shape';
import { MainButton, PageHead, QuietButton, Sheet, Waiting } from '../parts/sheet';
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
        <Link to={`/own/groups/${encodeURIComponent(group.name)}`}>
          <Text fontWeight="600" textDecoration="underline" textDecorationColor="line">
            {group.name}
          </Text>
        </Link>
        <Text color="faint" fontSize="sm">
          gid {group.gid}, {howMany(people)}
          {group.owners.length > 0 && `, owned by ${group.owners.map((o) => o.name).join(', ')}`}
          {group.description && ` – ${group.description}`}
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
      <PageHead title="Groups" text="Of people, and of groups">
        {mayChange && !adding && <MainButton onClick={() => setAdding(true)}>Add a group</MainButton>}
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
          <Entry label="Name" w="200px" error={wrong.name}>
            <Input {...register('name', { required: true })} />
          </Entry>
          <Entry label="What it is for" w="300px" error={wrong.description}>
            <Input {...register('description')} />
          </Entry>
          <Entry label="Owned by" w="200px" error={wrong.owner}>
            <Input placeholder="nobody" {...register('owner')} />
          </Entry>
          <MainButton type="submit">Add it</MainButton>
          <QuietButton onClick={onDone}>Leave it</QuietButton>
        </Flex>
      </form>
      <Previewed
        title="Add the group?"
        act="Add it"
        changes={asking}
        done="The group is added."
        onRefused={(e) => placeRefusal(e, form, { owners: 'owner', principal: 'owner' })}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
    </Sheet>
  );
}

const gives = (p: Profile) =>
  [
    p.groups.length > 0 && `in ${p.groups.join(', ')}`,
    `may use ${[p.smb && 'SMB', p.nfs && 'NFS', p.console && 'the console'].filter(Boolean).join(', ') || 'nothing'}`,
    p.role,
    p.hardBytes !== undefined && `stores up to ${size(p.hardBytes)}`,
    p.endsAfter && `ends after ${p.endsAfter} days`,
  ]
    .filter(Boolean)
    .join('; ');

function Profiles({ mayChange }: { mayChange: boolean }) {
  const profiles = useProfiles();
  const [asking, setAsking] = useState<{ title: string; done: string; changes: Change[] } | null>(null);
  const [adding, setAdding] = useState(false);
  return (
    <>
      <HStack justify="space-between" mb="3">
        <Text as="h2" fontSize="xl" fontWeight="700">
          Profiles
        </Text>
        {mayChange && !adding && <QuietButton onClick={() => setAdding(true)}>Add a profile</QuietButton>}
      </HStack>
      {adding && <NewProfile onDone={() => setAdding(false)} />}
      <Sheet>
        {!profiles.data ? (
          <Waiting error={profiles.error} rows={2} />
        ) : profiles.data.length === 0 ? (
          <Text p="5" color="faint">
            None yet. A profile is a named set of what people are given: groups, services, a limit, and for how long.
          </Text>
        ) : (
          <Grid head={['Profile', 'Gives', 'People', '-Give again']}>
            {profiles.data.map((p) => (
              <Table.Row key={p.name}>
                <Table.Cell>
                  <Text fontWeight="600">{p.name}</Text>
                  <Text color="faint" fontSize="sm">
                    {p.description}
                  </Text>
                </Table.Cell>
                <Table.Cell whiteSpace="normal">{gives(p)}</Table.Cell>
                <Table.Cell>{p.people}</Table.Cell>
                <Table.Cell textAlign="end">
                  {mayChange && p.people > 0 && (
                    <QuietButton
                      size="sm"
                      onClick={() =>
                        setAsking({
                          title: `Give ${howMany(p.people)} what ${p.name} says?`,
                          done: 'All have what it says.',
                          changes: [{ kind: 'profile', act: 'apply', of: { name: p.name } }],
                        })
                      }
                    >
                      Give again
                    </QuietButton>
                  )}
                </Table.Cell>
              </Table.Row>
            ))}
          </Grid>
        )}
      </Sheet>
      <Previewed
        title={asking?.title ?? ''}
        act="Do it"
        changes={asking?.changes ?? null}
        done={asking?.done ?? ''}
        onClose={() => setAsking(null)}
        onDone={() => setAsking(null)}
      />
    </>
  );
}

const NewProfileForm = z.object({
  name: z.string().trim().min(1, 'A profile has a name, such as visitor.'),
  groups: z.string(),
  hard: z.string().trim(),
  endsAfter: z.string().regex(/^\d*$/, 'A number of days; none for never.'),
});

function NewProfile({ onDone }: { onDone: () => void }) {
  const form = useForm<z.infer<typeof NewProfileForm>>({
    resolver: zodResolver(NewProfileForm),
    defaultValues: { name: '', groups: '', hard: '', endsAfter: '' },
  });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const { register } = form;
  const wrong = form.formState.errors;
  return (
    <Sheet p="5" mb="4">
      <form
        aria-label="A new profile"
        onSubmit={form.handleSubmit((f) =>
          setAsking([
            {
              kind: 'profile',
              act: 'add',
              with: {
                name: f.name,
                groups: listed(f.groups),
                ...(f.hard && { hard: f.hard }),
                ...(f.endsAfter && { endsAfter: Number(f.endsAfter) }),
              },
            },
          ]),
        )}
      >
        <Stack direction={{ base: 'column', md: 'row' }} gap="4" align="start">
          <Entry label="Name" error={wrong.name}>
            <Input {...register('name')} />
          </Entry>
          <Entry label="Groups" error={wrong.groups}>
            <Input placeholder="visitors" {...register('groups')} />
          </Entry>
          <Entry label="May store" error={wrong.hard}>
            <Input placeholder="2GB" {...register('hard')} />
          </Entry>
          <Entry label="Ends after days" error={wrong.endsAfter}>
            <Input inputMode="numeric" {...register('endsAfter')} />
          </Entry>
          <HStack pt="6">
            <MainButton type="submit">Add it</MainButton>
            <QuietButton onClick={onDone}>Leave it</QuietButton>
          </HStack>
        </Stack>
      </form>
      <Previewed
        title="Add the profile?"
        act="Add it"
        changes={asking}
        done="The profile is added."
        onRefused={(e) => placeRefusal(e, form, { group: 'groups' })}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
    </Sheet>
  );
}
