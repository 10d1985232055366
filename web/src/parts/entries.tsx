import { Box, Field, Flex, HStack, IconButton, Input, Menu, Portal, Table, Text } from '@chakra-ui/react';
import { useMemo, useState } from 'react';
import { useForm } from 'react-hook-form';
import {
  type Change,
  type Entry,
  type Level as LevelName,
  levels,
  type Place,
  useGroups,
  useUsers,
} from '../api/client';
import { lastDay } from './day';
import { Previewed } from './effect';
import { Grid } from './grid';
import { AddIcon, CutIcon, RemoveIcon } from './icons';
import { Level } from './level';
import { Pick } from './pick';
import { Principal } from './principal';
import { MainButton, QuietButton, Sheet } from './sheet';

const reach = (applies: string[] | null) => {
  const a = applies ?? [];
  if (a.length === 3 && !a.includes('direct')) return 'here and below';
  if (a.length === 1 && a[0] === 'folder') return 'here only';
  return a.join(', ');
};

/** What is written on one path. */
export function PlaceSheet({ place, mayChange }: { place: Place; mayChange: boolean }) {
  const [adding, setAdding] = useState(false);
  const written = place.entries.slice(0, place.explicit);
  return (
    <Sheet as="section" aria-label={place.path}>
      <Flex px="4" py="2.5" bg="sunk" justify="space-between" align="center" gap="3">
        <HStack gap="3" wrap="wrap">
          <Text fontFamily="mono" fontSize="sm" fontWeight="600">
            {place.path}
          </Text>
          {place.cut && (
            <HStack gap="1" color="accent" fontSize="sm">
              <CutIcon boxSize="4" />
              inherits nothing from above
            </HStack>
          )}
        </HStack>
        {mayChange && !adding && (
          <HStack>
            <RuleActs place={place} />
            <QuietButton size="sm" bg="sheet" onClick={() => setAdding(true)} aria-label={`Add entry on ${place.path}`}>
              <AddIcon /> Add entry
            </QuietButton>
          </HStack>
        )}
      </Flex>
      {adding && <AddEntry path={place.path} onDone={() => setAdding(false)} />}
      {written.length === 0 ? (
        <Text px="4" py="3" color="faint">
          {place.path.includes('/') && !place.cut ? 'Nothing is written here.' : 'No entries: nobody gets in.'}
        </Text>
      ) : (
        <Grid head={['-Allow or deny', 'Who', 'Level', 'Reaches', 'Note', ...(mayChange ? ['-Remove'] : [])]}>
          {written.map((e) => (
            <EntryRow key={`${e.id} ${e.who}`} entry={e} place={place} mayChange={mayChange} />
          ))}
        </Grid>
      )}
    </Sheet>
  );
}

/** What can be done with all that is written on a path, each shown before it is done. */
function RuleActs({ place }: { place: Place }) {
  const [asking, setAsking] = useState<{ title: string; act: string; text: string; changes: Change[] } | null>(null);
  const below = place.path.includes('/');
  const inheritance = (inherit: boolean, copy: boolean): Change[] => [
    { kind: 'inheritance', act: 'set', with: { path: place.path, inherit, copy } },
  ];
  const clear = (all: boolean): Change[] => [{ kind: 'rules', act: 'clear', of: { path: place.path, below: all } }];
  const acts = [
    below &&
      !place.cut && {
        title: 'Cut off, with a copy',
        act: 'Cut off',
        text: 'It inherits nothing from above any more; what it inherited is written on it.',
        changes: inheritance(false, true),
      },
    below &&
      !place.cut && {
        title: 'Cut off, without',
        act: 'Cut off',
        text: 'It inherits nothing from above any more. What is written on it alone decides.',
        changes: inheritance(false, false),
      },
    below &&
      place.cut && {
        title: 'Inherit again',
        act: 'Inherit',
        text: 'What is written above holds here as well.',
        changes: inheritance(true, false),
      },
    place.explicit > 0 && {
      title: 'Clear',
      act: 'Clear',
      text: 'What is written here is removed. Data is not touched.',
      changes: clear(false),
    },
    {
      title: 'Clear here and below',
      act: 'Clear',
      text: 'What is written here and on every path below is removed. Data is not touched.',
      changes: clear(true),
    },
  ].filter((a) => a !== false);
  return (
    <>
      <Menu.Root>
        <Menu.Trigger asChild>
          <QuietButton size="sm" bg="sheet" aria-label={`More for ${place.path}`}>
            More
          </QuietButton>
        </Menu.Trigger>
        <Portal>
          <Menu.Positioner>
            <Menu.Content bg="sheet" color="ink">
              {acts.map((a) => (
                <Menu.Item key={a.title} value={a.title} onClick={() => setAsking(a)}>
                  {a.title}
                </Menu.Item>
              ))}
            </Menu.Content>
          </Menu.Positioner>
        </Portal>
      </Menu.Root>
      <Previewed
        title={`${asking?.title}: ${place.path}?`}
        act={asking?.act ?? ''}
        changes={asking?.changes ?? null}
        done={`Done: ${asking?.title}.`}
        onClose={() => setAsking(null)}
        onDone={() => setAsking(null)}
      >
        <Text>{asking?.text}</Text>
      </Previewed>
    </>
  );
}

/** An entry on a path that has none yet. */
export function AnotherPath({ folder }: { folder: string }) {
  const [path, setPath] = useState<string | null>(null);
  const { register, handleSubmit, reset } = useForm<{ path: string }>();
  return (
    <Sheet mt="4">
      <Flex
        as="form"
        px="4"
        py="3"
        gap="3"
        align="center"
        wrap="wrap"
        onSubmit={handleSubmit((f) => setPath(`${folder}/${f.path.trim().replace(/^\/+/, '')}`))}
      >
        <Text color="faint" fontSize="sm">
          An entry on another path:
        </Text>
        <Text as="span" fontFamily="mono" fontSize="sm">
          {folder}/
        </Text>
        <Input
          size="sm"
          maxW="72"
          fontFamily="mono"
          autoComplete="off"
          aria-label={`Path in ${folder}`}
          {...register('path', { required: true })}
        />
        <QuietButton size="sm" type="submit">
          Write one
        </QuietButton>
      </Flex>
      {path && (
        <AddEntry
          path={path}
          onDone={() => {
            setPath(null);
            reset();
          }}
        />
      )}
    </Sheet>
  );
}

function EntryRow({ entry, place, mayChange }: { entry: Entry; place: Place; mayChange: boolean }) {
  const [asking, setAsking] = useState(false);
  const says = `${entry.deny ? 'deny' : 'allow'} ${entry.who} ${entry.level}`;
  const remove: Change[] = [{ kind: 'entry', act: 'remove', of: { path: place.path, id: entry.id } }];
  return (
    <Table.Row>
      <Table.Cell w="20" color={entry.deny ? 'shut' : 'open'} fontWeight="600">
        {entry.deny ? 'deny' : 'allow'}
      </Table.Cell>
      <Table.Cell>
        <Principal kind={entry.kind} name={entry.who} />
      </Table.Cell>
      <Table.Cell>
        <Level level={entry.level} deny={entry.deny} />
      </Table.Cell>
      <Table.Cell color="faint">{reach(entry.applies)}</Table.Cell>
      <Table.Cell color="faint">
        {entry.ends && (
          <Text as="span" color={entry.ended ? 'shut' : 'accent'}>
            {entry.ended ? 'ended ' : 'until '}
            {lastDay(entry.ends)}
            {entry.note ? '; ' : ''}
          </Text>
        )}
        {entry.own ? 'as the folder is personal' : entry.note}
      </Table.Cell>
      {mayChange && entry.own && <Table.Cell />}
      {mayChange && !entry.own && (
        <Table.Cell textAlign="end" py="1">
          <IconButton
            aria-label={`Remove: ${entry.deny ? 'deny' : 'allow'} ${entry.who} ${entry.level}`}
            size="sm"
            variant="ghost"
            color="faint"
            _hover={{ bg: 'shut.soft', color: 'shut' }}
            onClick={() => setAsking(true)}
          >
            <RemoveIcon />
          </IconButton>
          <Previewed
            title="Remove this entry?"
            act="Remove"
            changes={asking ? remove : null}
            done={`Removed: ${says}.`}
            onClose={() => setAsking(false)}
            onDone={() => setAsking(false)}
          >
            <Text>
              {entry.deny ? 'Denying' : 'Allowing'} <b>{entry.who}</b> the level <b>{entry.level}</b> on{' '}
              <b>{place.path}</b> ends at once, for what is open too.
            </Text>
          </Previewed>
        </Table.Cell>
      )}
    </Table.Row>
  );
}

type Form = {
  act: 'allow' | 'deny';
  who: string;
  level: LevelName;
  reaches: keyof typeof reaching;
  ends: string;
  note: string;
};

type Applies = Extract<Change, { kind: 'entry'; act: 'add' }>['with']['applies'];

const reaching: Record<
  'below' | 'here' | 'under' | 'folders' | 'files' | 'direct',
  { text: string; applies: Applies }
> = {
  below: { text: 'here and below', applies: undefined },
  here: { text: 'here only', applies: ['folder'] },
  under: { text: 'only below', applies: ['subfolders', 'files'] },
  folders: { text: 'directories only', applies: ['folder', 'subfolders'] },
  files: { text: 'files only', applies: ['files'] },
  direct: { text: 'here and directly in it', applies: ['folder', 'subfolders', 'files', 'direct'] },
};

/** The end of a day, as whoever picks it means it. */
function endOf(day: string) {
  const end = new Date(`${day}T00:00`);
  end.setDate(end.getDate() + 1);
  return end.toISOString();
}

function entryChange(path: string, f: Form): Change {
  return {
    kind: 'entry',
    act: 'add',
    with: {
      path,
      who: f.who.trim(),
      deny: f.act === 'deny',
      level: f.level,
      note: f.note || undefined,
      ends: f.ends ? endOf(f.ends) : undefined,
      applies: reaching[f.reaches].applies,
    },
  };
}

function AddEntry({ path, onDone }: { path: string; onDone: () => void }) {
  const users = useUsers();
  const groups = useGroups();
  const { register, handleSubmit, formState, watch } = useForm<Form>({
    defaultValues: { act: 'allow', level: 'read', reaches: 'below' },
  });
  const level = watch('level');
  const [asking, setAsking] = useState<Form | null>(null);
  const changes = useMemo<Change[] | null>(() => asking && [entryChange(path, asking)], [asking, path]);
  return (
    <Box as="form" px="4" py="4" borderBottomWidth="1px" borderColor="line" onSubmit={handleSubmit(setAsking)}>
      <Previewed
        title="Add this entry?"
        act="Add entry"
        changes={changes}
        done={asking ? `Added: ${asking.act} ${asking.who} ${asking.level}.` : ''}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
      <Flex gap="3" wrap="wrap" align="end">
        <Field.Root w="28">
          <Field.Label>Act</Field.Label>
          <Pick {...register('act')}>
            <option value="allow">allow</option>
            <option value="deny">deny</option>
          </Pick>
        </Field.Root>
        <Field.Root w="48" invalid={!!formState.errors.who}>
          <Field.Label>Who</Field.Label>
          <Input
            list={`who-${path}`}
            autoFocus
            autoComplete="off"
            placeholder="user or group"
            {...register('who', { required: true })}
          />
          <datalist id={`who-${path}`}>
            {groups.data?.map((g) => (
              <option key={`g${g.name}`} value={g.name} label={`group – ${g.description}`} />
            ))}
            {users.data?.map((u) => (
              <option key={`u${u.name}`} value={u.name} label={u.fullName} />
            ))}
            <option value="everyone@" />
            <option value="owner@" />
            <option value="group@" />
          </datalist>
        </Field.Root>
        <Field.Root w="32">
          <Field.Label>Level</Field.Label>
          <Pick {...register('level')}>
            {levels.map((l) => (
              <option key={l.level} value={l.level}>
                {l.level}
              </option>
            ))}
          </Pick>
        </Field.Root>
        <Field.Root w="44">
          <Field.Label>Reaches</Field.Label>
          <Pick {...register('reaches')}>
            {Object.entries(reaching).map(([name, r]) => (
              <option key={name} value={name}>
                {r.text}
              </option>
            ))}
          </Pick>
        </Field.Root>
        <Field.Root w="40">
          <Field.Label>Last day</Field.Label>
          <Input type="date" min={new Date().toISOString().slice(0, 10)} {...register('ends')} />
        </Field.Root>
        <Field.Root flex="1" minW="40">
          <Field.Label>Note</Field.Label>
          <Input placeholder="why it is there" maxLength={500} {...register('note')} />
        </Field.Root>
      </Flex>
      <HStack mt="4" justify="space-between" wrap="wrap">
        <Text color="faint" fontSize="sm">
          {level}: {levels.find((l) => l.level === level)?.means}
        </Text>
        <HStack>
          <QuietButton size="sm" onClick={onDone}>
            Cancel
          </QuietButton>
          <MainButton size="sm" type="submit">
            See what it does
          </MainButton>
        </HStack>
      </HStack>
    </Box>
  );
}
