import { Box, Code, Flex, Heading, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { change } from '../api/change';
import { type NumberMap, useNumberMaps, useRemembered } from '../api/client';
import { type Asked, useAsk } from './effect';
import { Entry, placeRefusal } from './form';
import { AddIcon } from './icons';
import { MainButton, Part, QuietButton, Sheet, Waiting } from './sheet';
import { DataTable } from './table';
import { listed } from './words';

type Alter = (
  what: Record<string, unknown>,
  title: string,
  after?: () => void,
  refused?: (error: Error) => boolean,
) => void;

/** Whose the numbers of some hosts are here, and what was seen of the numbers of others. */
export function Numbers({ mayChange }: { mayChange: boolean }) {
  const maps = useNumberMaps();
  const remembered = useRemembered();
  const [adding, setAdding] = useState(false);
  const [setAsking, dialog] = useAsk();
  if (!maps.data || !remembered.data) return <Waiting error={maps.error ?? remembered.error} />;
  return (
    <Stack gap="4" mt="8">
      <Flex justify="space-between" align="end" gap="3" wrap="wrap">
        <Box>
          <Heading as="h2" fontWeight="700" fontSize="xl">
            Numbers of hosts
          </Heading>
          <Text color="faint">
            Over NFS people come as numbers. Where a host’s cannot be changed, a map says whose they are.
          </Text>
        </Box>
        {mayChange && !adding && (
          <QuietButton onClick={() => setAdding(true)}>
            <AddIcon /> New number map
          </QuietButton>
        )}
      </Flex>
      {adding && <AddMap ask={setAsking} onDone={() => setAdding(false)} />}
      {maps.data.map((m) => (
        <MapSheet key={m.name} map={m} mayChange={mayChange} ask={setAsking} />
      ))}
      {remembered.data.map((h) => (
        <Part
          key={h.host}
          title={`Seen on ${h.host}`}
          act={
            mayChange && (
              <HStack>
                {h.mismatches.some((m) => m.here !== undefined) && (
                  <QuietButton
                    size="sm"
                    bg="sheet"
                    onClick={() =>
                      setAsking({
                        title: `Translate the numbers of ${h.host}?`,
                        act: 'Translate them',
                        done: `The numbers of ${h.host} are translated.`,
                        changes: [
                          h.map
                            ? { kind: 'number map', act: 'change', of: { name: h.map }, with: { like: h.host } }
                            : { kind: 'number map', act: 'add', with: { name: h.host, from: [h.host], like: h.host } },
                        ],
                      })
                    }
                  >
                    Translate them here
                  </QuietButton>
                )}
                <QuietButton
                  size="sm"
                  bg="sheet"
                  onClick={() =>
                    setAsking({
                      title: `Forget what was seen on ${h.host}?`,
                      act: 'Forget it',
                      done: `${h.host} is forgotten.`,
                      changes: [change('ids', 'forget', { of: { name: h.host } })],
                    })
                  }
                >
                  Forget it
                  <Text srOnly>of {h.host}</Text>
                </QuietButton>
              </HStack>
            )
          }
        >
          <Stack px="5" py="3" gap="2">
            <Text color="faint" fontSize="sm">
              {h.compared} users and groups compared
              {h.map && `, translated by number map ${h.map}`}
              {h.mismatches.length === 0 && '; all of them are who they are here'}
            </Text>
            {h.mismatches.map((m) => (
              <Box key={`${m.kind} ${m.name}`}>
                <Text>
                  {m.kind} <b>{m.name}</b> is {m.there} there
                  {m.here !== undefined && ` and ${m.here} here`}
                  {m.taken && `; ${m.there} is ${m.taken} here`}
                </Text>
                <Text color="faint" fontSize="sm">
                  On the host: <Code>{m.fixThere.join('; ')}</Code>
                </Text>
              </Box>
            ))}
          </Stack>
        </Part>
      ))}
      {dialog}
    </Stack>
  );
}

function MapSheet({ map, mayChange, ask }: { map: NumberMap; mayChange: boolean; ask: (a: Asked) => void }) {
  const alter: Alter = (what, title, after, refused) =>
    ask({
      title,
      act: 'Change it',
      done: `Number map ${map.name} is changed.`,
      changes: [{ kind: 'number map', act: 'change', of: { name: map.name }, with: what }],
      after,
      refused,
    });
  const rows = [
    ...Object.entries(map.users).map(([n, who]) => ({ side: 'users', kind: 'user', n, who })),
    ...Object.entries(map.groups).map(([n, who]) => ({ side: 'groups', kind: 'group', n, who })),
  ];
  return (
    <Part
      title={`Number map ${map.name}`}
      act={
        mayChange && (
          <QuietButton
            size="sm"
            bg="sheet"
            onClick={() =>
              ask({
                title: `Remove number map ${map.name}?`,
                act: 'Remove it',
                done: `Number map ${map.name} is removed.`,
                changes: [{ kind: 'number map', act: 'remove', of: { name: map.name } }],
              })
            }
          >
            Remove map
          </QuietButton>
        )
      }
    >
      <Text px="4" py="3" fontSize="sm" color="faint">
        {[
          map.description,
          `at ${map.from.join(', ')}`,
          map.others === 'same' ? 'other numbers are whose they are here' : 'other numbers are nobody’s',
        ]
          .filter(Boolean)
          .join(' – ')}
      </Text>
      <DataTable
        rows={rows}
        rowKey={(r) => `${r.side} ${r.n}`}
        maxH="320px"
        columns={[
          {
            head: 'Number there',
            cell: (r) => (
              <>
                {r.kind === 'user' ? 'uid' : 'gid'} {r.n}
              </>
            ),
            is: { fontFamily: 'mono' },
          },
          { head: 'Is here', cell: (r) => (r.who === 'nobody@' ? 'nobody' : `${r.kind} ${r.who}`) },
          {
            head: '',
            cell: (r) =>
              mayChange && (
                <QuietButton
                  size="xs"
                  aria-label={`Take out ${r.kind} ${r.n} of ${map.name}`}
                  onClick={() => alter({ [r.side]: { [r.n]: '' } }, `Take ${r.n} out of the map?`)}
                >
                  Take out
                </QuietButton>
              ),
            is: { textAlign: 'end' },
          },
        ]}
      />
      {mayChange && <AddNumber map={map} alter={alter} />}
    </Part>
  );
}

type NewNumber = { kind: 'users' | 'groups'; number: string; who: string };

function AddNumber({ map, alter }: { map: NumberMap; alter: Alter }) {
  const form = useForm<NewNumber>({ defaultValues: { kind: 'users', number: '', who: '' } });
  const { register, handleSubmit, reset } = form;
  const wrong = form.formState.errors;
  return (
    <form
      aria-label={`A number more for ${map.name}`}
      onSubmit={handleSubmit((f) =>
        alter({ [f.kind]: { [f.number]: f.who || 'nobody@' } }, `${f.number} at ${map.from.join(', ')}`, () => reset()),
      )}
    >
      <Flex px="4" py="3" gap="3" wrap="wrap" align="end" borderTopWidth="1px" borderColor="line">
        <Entry label="What" w="28" error={wrong.kind}>
          <NativeSelect.Root>
            <NativeSelect.Field {...register('kind')}>
              <option value="users">uid</option>
              <option value="groups">gid</option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Entry>
        <Entry label="Number there" w="32" error={wrong.number}>
          <Input inputMode="numeric" autoComplete="off" {...register('number', { required: true })} />
        </Entry>
        <Entry label="Is here" w="48" error={wrong.who}>
          <Input autoComplete="off" placeholder="nobody" {...register('who')} />
        </Entry>
        <QuietButton type="submit">Put in</QuietButton>
      </Flex>
    </form>
  );
}

type NewMap = { name: string; description: string; from: string; others: 'same' | 'unknown' };

function AddMap({ ask, onDone }: { ask: (a: Asked) => void; onDone: () => void }) {
  const form = useForm<NewMap>({ defaultValues: { name: '', description: '', from: '', others: 'same' } });
  const { register, handleSubmit } = form;
  const wrong = form.formState.errors;
  return (
    <Sheet
      as="form"
      p="4"
      onSubmit={handleSubmit((f) =>
        ask({
          title: 'Add the number map?',
          act: 'Add it',
          done: `Number map ${f.name} is added.`,
          changes: [
            {
              kind: 'number map',
              act: 'add',
              with: { name: f.name.trim(), description: f.description.trim(), from: listed(f.from), others: f.others },
            },
          ],
          after: onDone,
          refused: (e) => placeRefusal(e, form),
        }),
      )}
    >
      <Flex gap="3" wrap="wrap" align="end">
        <Entry label="Name" w="44" error={wrong.name}>
          <Input autoFocus autoComplete="off" {...register('name', { required: true })} />
        </Entry>
        <Entry label="Hosts" flex="1" minW="48" error={wrong.from}>
          <Input
            autoComplete="off"
            placeholder="192.0.2.45, scanner.larkfell.example"
            {...register('from', { required: true })}
          />
        </Entry>
        <Entry label="Why theirs are others" flex="1" minW="40" error={wrong.description}>
          <Input maxLength={200} {...register('description')} />
        </Entry>
        <Entry label="Numbers not in it" w="52" error={wrong.others}>
          <NativeSelect.Root>
            <NativeSelect.Field {...register('others')}>
              <option value="same">are whose they are here</option>
              <option value="unknown">are nobody’s</option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Entry>
        <HStack>
          <QuietButton onClick={onDone}>Cancel</QuietButton>
          <MainButton type="submit">Make it</MainButton>
        </HStack>
      </Flex>
    </Sheet>
  );
}
