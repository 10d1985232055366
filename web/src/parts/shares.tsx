import { Box, Checkbox, Flex, HStack, IconButton, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { change } from '../api/change';
import { type Change, levels, type Share, useShares } from '../api/client';
import { type Asked, Previewed, useAsk } from './effect';
import { Entry, FormEnd, placeRefusal } from './form';
import { AddIcon, RemoveIcon } from './icons';
import { Labels } from './labels';
import { Level } from './level';
import { Pick } from './pick';
import { PickerField } from './picker';
import { Principal } from './principal';
import { QuietButton, Sheet, Waiting } from './sheet';
import { DataTable } from './table';

/** What can be said of a share by yes or no. */
export const shareOptions = [
  { name: 'announced', text: t`announced`, label: t`announced in lists of shares` },
  { name: 'readOnly', text: t`read-only`, label: t`nobody changes anything through it` },
  { name: 'listOnlyOpenable', text: t`only what one may open`, label: t`listings leave out what one may not open` },
  { name: 'encrypted', text: t`encrypted`, label: t`nothing goes over the wire open` },
  { name: 'persistent', text: t`open over restarts`, label: t`what is open outlasts a restart of the service` },
  { name: 'showLinks', text: t`links shown`, label: t`clients are told of symbolic links, and follow them themselves` },
  { name: 'guests', text: t`takes guests`, label: t`who comes without an account may come in` },
] as const;

/** One such answer, to be changed with a preview. */
export function ShareOption({
  share: s,
  name,
  mayChange,
  ask,
  label,
}: {
  share: Share;
  name: (typeof shareOptions)[number]['name'];
  mayChange: boolean;
  ask: (a: Asked) => void;
  label?: string;
}) {
  const text = shareOptions.find((o) => o.name === name)?.text ?? '';
  return (
    <Checkbox.Root
      size="sm"
      checked={s[name]}
      disabled={!mayChange}
      onCheckedChange={(e) =>
        ask({
          title: `${s.name}: ${text}, ${e.checked ? t`yes` : t`no`}?`,
          act: t`Change it`,
          done: t`Share ${s.name} is changed.`,
          changes: [change('share', 'change', { of: { name: s.name }, with: { [name]: e.checked === true } })],
        })
      }
    >
      <Checkbox.HiddenInput aria-label={label ? undefined : `${s.name}: ${text}`} />
      <Checkbox.Control />
      {label && <Checkbox.Label>{label}</Checkbox.Label>}
    </Checkbox.Root>
  );
}

type HostTerm = NonNullable<Share['hosts']>[number];

/** The hosts that a share is kept to, as they are typed. */
export const hostsText = (terms: HostTerm[] = []) => terms.map((h) => h.from + (h.readOnly ? '=ro' : '')).join(', ');

const hostTerms = (text: string): HostTerm[] =>
  text
    .split(/[\s,]+/)
    .filter(Boolean)
    .map((h) => (h.endsWith('=ro') ? { from: h.slice(0, -3), readOnly: true } : { from: h }));

/** The shares of a folder: how each is published over SMB. */
export function Shares({ folder, mayChange }: { folder: string; mayChange: boolean }) {
  const shares = useShares();
  const [adding, setAdding] = useState(false);
  if (!shares.data) return <Waiting error={shares.error} />;
  const ours = shares.data.filter((s) => s.folder === folder);
  return (
    <Box>
      {ours.length === 0 && (
        <Text color="faint" fontSize="sm" mb="4">
          <Trans>It is not published over SMB.</Trans>
        </Text>
      )}
      <Stack gap="4">
        {ours.map((s) => (
          <ShareSheet key={s.name} share={s} mayChange={mayChange} />
        ))}
        {adding && <AddShare folder={folder} onDone={() => setAdding(false)} />}
      </Stack>
      {mayChange && !adding && (
        <QuietButton mt="4" onClick={() => setAdding(true)}>
          <AddIcon /> <Trans>Publish over SMB</Trans>
        </QuietButton>
      )}
    </Box>
  );
}

function ShareSheet({ share: s, mayChange }: { share: Share; mayChange: boolean }) {
  const [ask, dialog] = useAsk(
    <Text>
      <Trans>
        Whoever has <b>{s.name}</b> open feels it at once. The folder and its data stay.
      </Trans>
    </Text>,
  );
  const [editing, setEditing] = useState(false);
  return (
    <Sheet as="section" aria-label={t`Share ${s.name}`}>
      <Flex px="4" py="3" bg="sunk" justify="space-between" align="center" gap="3" wrap="wrap">
        <Box>
          <Text fontFamily="mono" fontSize="sm" fontWeight="600">
            {s.name}
          </Text>
          <Text color="faint" fontSize="sm">
            {[s.description, !s.on && t`SMB is switched off`].filter(Boolean).join(', ')}
          </Text>
          <Labels labels={s.labels} />
        </Box>
        {mayChange && (
          <HStack>
            <QuietButton size="sm" bg="sheet" onClick={() => setEditing(!editing)} aria-expanded={editing}>
              <Trans>
                Change
                <Text srOnly>share {s.name}</Text>
              </Trans>
            </QuietButton>
            <QuietButton
              size="sm"
              bg="sheet"
              onClick={() =>
                ask({
                  title: t`Publish ${s.name} no more?`,
                  act: t`Publish it no more`,
                  done: t`Share ${s.name} is no more.`,
                  changes: [change('share', 'remove', { of: { name: s.name } })],
                })
              }
            >
              <Trans>
                End publication
                <Text srOnly>as {s.name}</Text>
              </Trans>
            </QuietButton>
          </HStack>
        )}
      </Flex>
      {editing && <ChangeShare share={s} onDone={() => setEditing(false)} />}
      <Flex px="4" py="3" gap="6" wrap="wrap">
        {shareOptions.map((o) => (
          <ShareOption key={o.name} share={s} name={o.name} label={o.label} mayChange={mayChange} ask={ask} />
        ))}
      </Flex>
      {(s.hosts || s.offline !== 'manual' || s.mostConnections) && (
        <Flex px="4" pb="3" gap="6" rowGap="1" wrap="wrap" fontSize="sm" color="faint">
          {s.hosts && (
            <Text>
              <Trans>
                Used from{' '}
                <Text as="span" fontFamily="mono">
                  {hostsText(s.hosts)}
                </Text>{' '}
                only
              </Trans>
            </Text>
          )}
          {s.mostConnections && <Text>{t`At most ${s.mostConnections} connections at once`}</Text>}
          {s.offline === 'auto' && <Text>{t`Clients keep whatever is opened`}</Text>}
          {s.offline === 'vdo' && <Text>{t`Clients keep whatever is opened, and work on it`}</Text>}
          {s.offline === 'none' && <Text>{t`Clients keep nothing`}</Text>}
        </Flex>
      )}
      <ShareEntries share={s} mayChange={mayChange} />
      {dialog}
    </Sheet>
  );
}

/** Entries that hold for a way in alone: who may do what through the share at all. */
export function ShareEntries({ share: s, mayChange }: { share: Share; mayChange: boolean }) {
  const [adding, setAdding] = useState(false);
  const [ask, dialog] = useAsk();
  return (
    <Box borderTopWidth="1px" borderColor="line">
      <Flex px="4" py="2.5" justify="space-between" align="center" gap="3" wrap="wrap">
        <Text fontSize="sm" color="faint">
          {s.entries.length === 0
            ? t`It has no entries of its own: those of the folder alone decide.`
            : t`Through this share nobody may more than these say.`}
        </Text>
        {mayChange && !adding && (
          <QuietButton size="xs" onClick={() => setAdding(true)}>
            <AddIcon />{' '}
            <Trans>
              Entry
              <Text srOnly>of share {s.name}</Text>
            </Trans>
          </QuietButton>
        )}
      </Flex>
      {adding && <AddShareEntry share={s.name} onDone={() => setAdding(false)} />}
      {s.entries.length > 0 && (
        <DataTable
          label={t`Entries of share ${s.name}`}
          rows={s.entries}
          rowKey={(e) => e.id}
          columns={[
            {
              head: `-${t`Allow or deny`}`,
              cell: (e) => (e.deny ? 'deny' : 'allow'),
              is: (e) => ({ w: '20', color: e.deny ? 'shut' : 'open', fontWeight: '600' }),
            },
            { head: t`Who`, cell: (e) => <Principal kind={e.kind} name={e.who} /> },
            {
              head: t`Level`,
              cell: (e) =>
                mayChange ? (
                  <Pick
                    aria-label={t`Level of ${e.who} through ${s.name}`}
                    value={e.level}
                    onChange={(v) =>
                      ask({
                        title: t`${e.who}: ${v.target.value} through ${s.name}?`,
                        act: t`Change it`,
                        done: t`Through ${s.name} it is ${v.target.value}.`,
                        changes: [
                          change('share entry', 'change', {
                            of: { name: s.name, id: e.id },
                            with: { level: v.target.value },
                          }),
                        ],
                      })
                    }
                  >
                    {!levels.some((l) => l.level === e.level) && <option>{e.level}</option>}
                    {levels.map((l) => (
                      <option key={l.level}>{l.level}</option>
                    ))}
                  </Pick>
                ) : (
                  <Level level={e.level} deny={e.deny} />
                ),
            },
            { head: t`Note`, cell: (e) => e.note, is: { color: 'faint', whiteSpace: 'normal' } },
            {
              head: `-${t`Remove`}`,
              cell: (e) =>
                mayChange && (
                  <IconButton
                    aria-label={t`Remove: ${e.deny ? t`deny` : t`allow`} ${e.who} through ${s.name}`}
                    size="sm"
                    variant="ghost"
                    color="faint"
                    onClick={() =>
                      ask({
                        title: t`Remove this entry?`,
                        act: t`Remove`,
                        done: t`Removed: ${e.who} through ${s.name}.`,
                        changes: [change('share entry', 'remove', { of: { name: s.name, id: e.id } })],
                      })
                    }
                  >
                    <RemoveIcon />
                  </IconButton>
                ),
              is: { textAlign: 'end', py: '1' },
            },
          ]}
        />
      )}
      {dialog}
    </Box>
  );
}

type EntryFilled = { act: 'allow' | 'deny'; who: string; level: string; note: string };

function AddShareEntry({ share, onDone }: { share: string; onDone: () => void }) {
  const form = useForm<EntryFilled>({ defaultValues: { act: 'allow', who: '', level: 'change', note: '' } });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const { register, control, handleSubmit, formState } = form;
  return (
    <Box
      as="form"
      px="4"
      pb="4"
      onSubmit={handleSubmit((f) =>
        setAsking([
          change('share entry', 'add', {
            of: { name: share },
            with: { who: f.who.trim(), deny: f.act === 'deny', level: f.level, note: f.note || undefined },
          }),
        ]),
      )}
    >
      <Flex gap="3" wrap="wrap" align="end">
        <Entry label={t`Act`} w="28">
          <Pick {...register('act')}>
            <option value="allow">
              <Trans>allow</Trans>
            </option>
            <option value="deny">
              <Trans>deny</Trans>
            </option>
          </Pick>
        </Entry>
        <Entry label={t`Who`} flex="1" minW="48" error={formState.errors.who}>
          <PickerField of="who" control={control} name="who" autoFocus rules={{ required: true }} />
        </Entry>
        <Entry label={t`Level`} w="32" error={formState.errors.level}>
          <Pick {...register('level')}>
            {levels.map((l) => (
              <option key={l.level}>{l.level}</option>
            ))}
          </Pick>
        </Entry>
        <Entry label={t`Note`} flex="1" minW="40">
          <Input maxLength={500} {...register('note')} />
        </Entry>
        <FormEnd onCancel={onDone} />
      </Flex>
      <Previewed
        title={t`Add this entry to share ${share}?`}
        act={t`Add entry`}
        changes={asking}
        done={t`Added to share ${share}.`}
        onRefused={(e) => placeRefusal(e, form)}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
    </Box>
  );
}

function ChangeShare({ share: s, onDone }: { share: Share; onDone: () => void }) {
  const form = useForm({
    defaultValues: {
      name: s.name,
      description: s.description ?? '',
      hosts: hostsText(s.hosts),
      offline: s.offline,
      most: s.mostConnections ? String(s.mostConnections) : '',
    },
  });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const { register, handleSubmit, formState } = form;
  return (
    <Box
      as="form"
      px="4"
      py="4"
      borderBottomWidth="1px"
      borderColor="line"
      onSubmit={handleSubmit((f) => {
        const to = {
          ...(f.name.trim() !== s.name && { name: f.name.trim() }),
          ...(f.description !== (s.description ?? '') && { description: f.description }),
          ...(hostsText(hostTerms(f.hosts)) !== hostsText(s.hosts) && { hosts: hostTerms(f.hosts) }),
          ...(f.offline !== s.offline && { offline: f.offline }),
          ...(Number(f.most) !== (s.mostConnections ?? 0) && { mostConnections: Number(f.most) }),
        };
        if (Object.keys(to).length === 0) onDone();
        else setAsking([change('share', 'change', { of: { name: s.name }, with: to })]);
      })}
    >
      <Flex gap="3" wrap="wrap" align="end">
        <Entry label={t`Name`} w="56" error={formState.errors.name}>
          <Input autoFocus {...register('name', { required: true })} />
        </Entry>
        <Entry label={t`Description`} flex="1" minW="56" error={formState.errors.description}>
          <Input maxLength={200} {...register('description')} />
        </Entry>
        <Entry
          label={t`From which hosts`}
          w="full"
          error={formState.errors.hosts}
          help={t`Addresses, networks, names, patterns, @ and a host set, with commas between; =ro behind one: from there it is only read. Empty: from everywhere.`}
        >
          <Input fontFamily="mono" placeholder={t`192.0.2.0/24, @workroom`} {...register('hosts')} />
        </Entry>
        <Entry label={t`Kept by clients for when they are away`} w="72" error={formState.errors.offline}>
          <Pick {...register('offline')}>
            <option value="manual">{t`what their users choose`}</option>
            <option value="auto">{t`whatever is opened`}</option>
            <option value="vdo">{t`whatever is opened, and worked on`}</option>
            <option value="none">{t`nothing`}</option>
          </Pick>
        </Entry>
        <Entry label={t`Most connections at once`} w="56" error={formState.errors.most}>
          <Input
            type="number"
            min={0}
            max={1000000}
            placeholder={t`as many as come`}
            {...register('most', { min: 0, max: 1000000 })}
          />
        </Entry>
        <FormEnd onCancel={onDone} />
      </Flex>
      <Previewed
        title={t`Change share ${s.name}?`}
        act={t`Change it`}
        changes={asking}
        done={t`Share ${s.name} is changed.`}
        onRefused={(e) => placeRefusal(e, form, { mostConnections: 'most' })}
        onClose={() => setAsking(null)}
        onDone={onDone}
      >
        {form.getValues('name').trim() !== s.name && (
          <Text>
            <Trans>Clients find it by its name: with another one they have to connect anew.</Trans>
          </Text>
        )}
      </Previewed>
    </Box>
  );
}

function AddShare({ folder, onDone }: { folder: string; onDone: () => void }) {
  const form = useForm({ defaultValues: { name: folder, description: '', announced: true, readOnly: false } });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const { register, handleSubmit, formState } = form;
  return (
    <Sheet
      as="form"
      p="4"
      onSubmit={handleSubmit((f) =>
        setAsking([
          change('share', 'add', {
            with: {
              folder,
              name: f.name.trim(),
              description: f.description || undefined,
              ...(!f.announced && { hidden: true }),
              ...(f.readOnly && { readOnly: true }),
            },
          }),
        ]),
      )}
    >
      <Flex gap="3" wrap="wrap" align="end">
        <Entry label={t`Name of the share`} w="56" error={formState.errors.name}>
          <Input autoFocus {...register('name', { required: true })} />
        </Entry>
        <Entry label={t`Description`} flex="1" minW="56" error={formState.errors.description}>
          <Input maxLength={200} {...register('description')} />
        </Entry>
        <FormEnd onCancel={onDone} />
      </Flex>
      <Previewed
        title={t`Publish ${folder} over SMB?`}
        act={t`Publish`}
        changes={asking}
        done={t`${folder} is published over SMB.`}
        onRefused={(e) => placeRefusal(e, form)}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
    </Sheet>
  );
}
