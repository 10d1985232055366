import { Flex, HStack, IconButton, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { change, reaching, reachOf } from '../api/change';
import type { Change, Entry, Finding, Place } from '../api/client';
import { lastDay } from './day';
import { Previewed } from './effect';
import { EntryForm } from './entry-form';
import { AddIcon, CutIcon, EditIcon, RemoveIcon } from './icons';
import { Level } from './level';
import { Picker } from './picker';
import { Principal } from './principal';
import { AsText, CopyFrom, RuleActs } from './rule-acts';
import { QuietButton, Sheet } from './sheet';
import { type Column, DataTable } from './table';

const reach = (applies: string[] | null) => {
  const known = reachOf(applies);
  return known ? reaching[known].text : (applies ?? []).join(', ');
};

/** What holds on one path, in the order in which it is evaluated: what is written on it, and what it inherits. */
export function PlaceSheet({
  place,
  mayChange,
  findings = [],
}: {
  place: Place;
  mayChange: boolean;
  findings?: Finding[];
}) {
  const [form, setForm] = useState<'add' | 'copy' | 'text' | Entry | null>(null);
  const [all, setAll] = useState(false);
  const [asking, setAsking] = useState<{
    title: string;
    act: string;
    says: string;
    text?: string;
    changes: Change[];
  } | null>(null);
  const done = () => setForm(null);
  const inherited = place.entries.length - place.explicit;
  const shown = all ? place.entries : place.entries.slice(0, place.explicit);
  const blocked = findings.filter((f) => f.kind === 'blocked by a parent' && f.changes);
  const remove = (e: Entry) => {
    const says = `${e.deny ? 'deny' : 'allow'} ${e.who} ${e.level}`;
    setAsking({
      title: t`Remove this entry?`,
      act: t`Remove`,
      says: t`Removed: ${says}.`,
      text: t`${e.deny ? t`Denying` : t`Allowing`} ${e.who} the level ${e.level} on ${place.path} ends at once, for what is open too.`,
      changes: [change('entry', 'remove', { of: { path: place.path, id: e.id } })],
    });
  };
  const columns: Column<Entry>[] = [
    {
      head: `-${t`Order`}`,
      cell: (e) => place.entries.indexOf(e) + 1,
      is: { color: 'faint', w: '8', fontSize: 'sm' },
    },
    {
      head: `-${t`Allow or deny`}`,
      cell: (e) => (e.deny ? 'deny' : 'allow'),
      is: (e) => ({ w: '20', color: e.deny ? 'shut' : 'open', fontWeight: '600' }),
    },
    { head: t`Who`, cell: (e) => <Principal kind={e.kind} name={e.who} /> },
    { head: t`Level`, cell: (e) => <Level level={e.level} deny={e.deny} />, is: { whiteSpace: 'normal' } },
    { head: t`Reaches`, cell: (e) => reach(e.applies), is: { color: 'faint' } },
    {
      head: all ? t`Written on, and note` : t`Note`,
      cell: (e) => (
        <>
          {e.from && e.from !== place.path && (
            <Text as="span" fontFamily="mono" fontSize="sm">
              {e.from}{' '}
            </Text>
          )}
          {e.ends && (
            <Text as="span" color={e.ended ? 'shut' : 'accent'}>
              {e.ended ? t`ended ` : t`until `}
              {lastDay(e.ends)}
              {e.note ? '; ' : ''}
            </Text>
          )}
          {e.own ? t`as the folder is personal` : e.note}
        </>
      ),
      is: { color: 'faint', whiteSpace: 'normal' },
    },
  ];
  if (mayChange)
    columns.push({
      head: `-${t`Change or remove`}`,
      cell: (e) =>
        !e.own &&
        (!e.from || e.from === place.path) && (
          <>
            <IconButton
              aria-label={t`Change: ${e.deny ? t`deny` : t`allow`} ${e.who} ${e.level}`}
              size="sm"
              variant="ghost"
              color="faint"
              _hover={{ bg: 'sunk', color: 'ink' }}
              onClick={() => setForm(e)}
            >
              <EditIcon />
            </IconButton>
            <IconButton
              aria-label={t`Remove: ${e.deny ? t`deny` : t`allow`} ${e.who} ${e.level}`}
              size="sm"
              variant="ghost"
              color="faint"
              _hover={{ bg: 'shut.soft', color: 'shut' }}
              onClick={() => remove(e)}
            >
              <RemoveIcon />
            </IconButton>
          </>
        ),
      is: { textAlign: 'end', py: '1', whiteSpace: 'nowrap' },
    });
  return (
    <Sheet as="section" aria-label={place.path}>
      <Flex px="4" py="2.5" bg="sunk" justify="space-between" align="center" gap="3" wrap="wrap">
        <HStack gap="3" wrap="wrap" minW="0">
          <Text fontFamily="mono" fontSize="sm" fontWeight="600" wordBreak="break-word">
            {place.path}
          </Text>
          {place.cut && (
            <HStack gap="1" color="accent" fontSize="sm">
              <CutIcon boxSize="4" />
              <Trans>inherits nothing from above</Trans>
            </HStack>
          )}
        </HStack>
        <HStack wrap="wrap">
          {inherited > 0 && (
            <QuietButton size="sm" bg="sheet" aria-pressed={all} onClick={() => setAll(!all)}>
              {all ? t`Only what is written here` : t`And what it inherits: ${inherited}`}
            </QuietButton>
          )}
          {mayChange && form === null && (
            <>
              <RuleActs place={place} onForm={setForm} />
              <QuietButton
                size="sm"
                bg="sheet"
                onClick={() => setForm('add')}
                aria-label={t`Add entry on ${place.path}`}
              >
                <AddIcon /> <Trans>Add entry</Trans>
              </QuietButton>
            </>
          )}
        </HStack>
      </Flex>
      {form === 'add' && <EntryForm path={place.path} onDone={done} />}
      {form === 'copy' && <CopyFrom path={place.path} onDone={done} />}
      {form === 'text' && <AsText path={place.path} onDone={done} />}
      {form !== null && typeof form === 'object' && (
        <EntryForm key={form.id} path={place.path} entry={form} onDone={done} />
      )}
      {blocked.map((f) => (
        <Flex key={f.key} bg="shut.soft" px="4" py="2.5" gap="3" align="center" justify="space-between" wrap="wrap">
          <Text fontSize="sm">
            {f.subject}: {f.says}.
          </Text>
          {mayChange && (
            <QuietButton
              size="sm"
              bg="sheet"
              onClick={() =>
                setAsking({
                  title: t`Let them through?`,
                  act: t`Let them through`,
                  says: t`They are let through.`,
                  changes: f.changes ?? [],
                })
              }
            >
              <Trans>Let them through</Trans>
            </QuietButton>
          )}
        </Flex>
      ))}
      {shown.length === 0 ? (
        <Text px="4" py="3" color="faint">
          {place.path.includes('/') && !place.cut ? t`Nothing is written here.` : t`No entries: nobody gets in.`}
        </Text>
      ) : (
        <DataTable
          label={t`Entries of ${place.path}`}
          rows={shown}
          rowKey={(e) => `${e.id} ${e.who}`}
          columns={columns}
        />
      )}
      <Previewed
        title={asking?.title ?? ''}
        act={asking?.act ?? ''}
        changes={asking?.changes ?? null}
        done={asking?.says ?? ''}
        onClose={() => setAsking(null)}
        onDone={() => setAsking(null)}
      >
        <Text>{asking?.text ?? t`On ${place.path} it holds at once, for what is open too.`}</Text>
      </Previewed>
    </Sheet>
  );
}

/** An entry on a path that has none yet. */
export function AnotherPath({ folder }: { folder: string }) {
  const [typed, setTyped] = useState(`${folder}/`);
  const [path, setPath] = useState<string | null>(null);
  return (
    <Sheet mt="4">
      <Flex
        as="form"
        px="4"
        py="3"
        gap="3"
        align="center"
        wrap="wrap"
        onSubmit={(e) => {
          e.preventDefault();
          const is = typed.trim().replace(/^\/+|\/+$/g, '');
          if (is) setPath(is === folder || is.startsWith(`${folder}/`) ? is : `${folder}/${is}`);
        }}
      >
        <Text color="faint" fontSize="sm">
          <Trans>An entry on another path:</Trans>
        </Text>
        <Picker of="path" size="sm" mono aria-label={t`Path in ${folder}`} value={typed} onChange={setTyped} />
        <QuietButton size="sm" type="submit">
          <Trans>Write one</Trans>
        </QuietButton>
      </Flex>
      {path && (
        <EntryForm
          key={path}
          path={path}
          onDone={() => {
            setPath(null);
            setTyped(`${folder}/`);
          }}
        />
      )}
    </Sheet>
  );
}
