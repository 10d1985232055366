import { Box, Code, Flex, Heading, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
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
            <Trans>Numbers of hosts</Trans>
          </Heading>
          <Text color="faint">
            <Trans>Over NFS people come as numbers. Where a host’s cannot be changed, a map says whose they are.</Trans>
          </Text>
        </Box>
        {mayChange && !adding && (
          <QuietButton onClick={() => setAdding(true)}>
            <AddIcon /> <Trans>New number map</Trans>
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
          title={t`Seen on ${h.host}`}
          act={
            mayChange && (
              <HStack>
                {h.mismatches.some((m) => m.here !== undefined) && (
                  <QuietButton
                    size="sm"
                    bg="sheet"
                    onClick={() =>
                      setAsking({
                        title: t`Translate the numbers of ${h.host}?`,
                        act: t`Translate them`,
                        done: t`The numbers of ${h.host} are translated.`,
                        changes: [
                          h.map
                            ? { kind: 'number map', act: 'change', of: { name: h.map }, with: { like: h.host } }
                            : { kind: 'number map', act: 'add', with: { name: h.host, from: [h.host], like: h.host } },
                        ],
                      })
                    }
                  >
                    <Trans>Translate them here</Trans>
                  </QuietButton>
                )}
                <QuietButton
                  size="sm"
                  bg="sheet"
                  onClick={() =>
                    setAsking({
                      title: t`Forget what was seen on ${h.host}?`,
                      act: t`Forget it`,
                      done: t`${h.host} is forgotten.`,
                      changes: [change('ids', 'forget', { of: { name: h.host } })],
                    })
                  }
                >
                  <Trans>
                    Forget it
                    <Text srOnly>of {h.host}</Text>
                  </Trans>
                </QuietButton>
              </HStack>
            )
          }
        >
          <Stack px="5" py="3" gap="2">
            <Text color="faint" fontSize="sm">
              <Trans>
                {h.compared} users and groups compared
                {h.map && t`, translated by number map ${h.map}`}
                {h.mismatches.length === 0 && t`; all of them are who they are here`}
              </Trans>
            </Text>
            {h.mismatches.map((m) => (
              <Box key={`${m.kind} ${m.name}`}>
                <Text>
                  <Trans>
                    {m.kind} <b>{m.name}</b> is {m.there} there
                    {m.here !== undefined && t` and ${m.here} here`}
                    {m.taken && t`; ${m.there} is ${m.taken} here`}
                  </Trans>
                </Text>
                <Text color="faint" fontSize="sm">
                  <Trans>
                    On the host: <Code>{m.fixThere.join('; ')}</Code>
                  </Trans>
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
      act: t`Change it`,
      done: t`Number map ${map.name} is changed.`,
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
      title={t`Number map ${map.name}`}
      act={
        mayChange && (
          <QuietButton
            size="sm"
            bg="sheet"
            onClick={() =>
              ask({
                title: t`Remove number map ${map.name}?`,
                act: t`Remove it`,
                done: t`Number map ${map.name} is removed.`,
                changes: [{ kind: 'number map', act: 'remove', of: { name: map.name } }],
              })
            }
          >
            <Trans>Remove map</Trans>
          </QuietButton>
        )
      }
    >
      <Text px="4" py="3" fontSize="sm" color="faint">
        {[
          map.description,
          t`at ${map.from.join(', ')}`,
          map.others === 'same' ? t`other numbers are whose they are here` : t`other numbers are nobody’s`,
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
            head: t`Number there`,
            cell: (r) => (
              <>
                {r.kind === 'user' ? 'uid' : 'gid'} {r.n}
              </>
            ),
            is: { fontFamily: 'mono' },
          },
          { head: t`Is here`, cell: (r) => (r.who === 'nobody@' ? t`nobody` : `${r.kind} ${r.who}`) },
          {
            head: '',
            cell: (r) =>
              mayChange && (
                <QuietButton
                  size="xs"
                  aria-label={t`Take out ${r.kind} ${r.n} of ${map.name}`}
                  onClick={() => alter({ [r.side]: { [r.n]: '' } }, t`Take ${r.n} out of the map?`)}
                >
                  <Trans>Take out</Trans>
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
      aria-label={t`A number more for ${map.name}`}
      onSubmit={handleSubmit((f) =>
        alter({ [f.kind]: { [f.number]: f.who || 'nobody@' } }, t`${f.number} at ${map.from.join(', ')}`, () =>
          reset(),
        ),
      )}
    >
      <Flex px="4" py="3" gap="3" wrap="wrap" align="end" borderTopWidth="1px" borderColor="line">
        <Entry label={t`What`} w="28" error={wrong.kind}>
          <NativeSelect.Root>
            <NativeSelect.Field {...register('kind')}>
              <option value="users">
                <Trans>uid</Trans>
              </option>
              <option value="groups">
                <Trans>gid</Trans>
              </option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Entry>
        <Entry label={t`Number there`} w="32" error={wrong.number}>
          <Input inputMode="numeric" autoComplete="off" {...register('number', { required: true })} />
        </Entry>
        <Entry label={t`Is here`} w="48" error={wrong.who}>
          <Input autoComplete="off" placeholder={t`nobody`} {...register('who')} />
        </Entry>
        <QuietButton type="submit">
          <Trans>Put in</Trans>
        </QuietButton>
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
          title: t`Add the number map?`,
          act: t`Add it`,
          done: t`Number map ${f.name} is added.`,
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
        <Entry label={t`Name`} w="44" error={wrong.name}>
          <Input autoFocus autoComplete="off" {...register('name', { required: true })} />
        </Entry>
        <Entry label={t`Hosts`} flex="1" minW="48" error={wrong.from}>
          <Input
            autoComplete="off"
            placeholder={t`192.0.2.45, scanner.larkfell.example`}
            {...register('from', { required: true })}
          />
        </Entry>
        <Entry label={t`Why theirs are others`} flex="1" minW="40" error={wrong.description}>
          <Input maxLength={200} {...register('description')} />
        </Entry>
        <Entry label={t`Numbers not in it`} w="52" error={wrong.others}>
          <NativeSelect.Root>
            <NativeSelect.Field {...register('others')}>
              <option value="same">
                <Trans>are whose they are here</Trans>
              </option>
              <option value="unknown">
                <Trans>are nobody’s</Trans>
              </option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Entry>
        <HStack>
          <QuietButton onClick={onDone}>
            <Trans>Cancel</Trans>
          </QuietButton>
          <MainButton type="submit">
            <Trans>Make it</Trans>
          </MainButton>
        </HStack>
      </Flex>
    </Sheet>
  );
}
