import { Box, Checkbox, Field, Flex, HStack, Input, SimpleGrid, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { Controller, useForm } from 'react-hook-form';
import { type EntryFilled, entriesAdded, entryChanged, reaching, reachOf, rights } from '../api/change';
import { type Change, type Entry, levels } from '../api/client';
import { enteredDay } from './day';
import { Previewed } from './effect';
import { FormEnd } from './form';
import { Pick } from './pick';
import { PickerField } from './picker';
import { Tick } from './tick';
import { listed } from './words';

const empty: EntryFilled = {
  act: 'allow',
  who: '',
  level: 'read',
  rights: [],
  reaches: 'below',
  ends: '',
  note: '',
  through: false,
};

/** A directory's names of rights are those of files as well: the first is written. */
const asWritten: Record<string, string> = {
  list_directory: 'read_data',
  add_file: 'write_data',
  add_subdirectory: 'append_data',
};

function filledOf(e: Entry): EntryFilled {
  const level = levels.find((l) => l.level === e.level)?.level;
  return {
    ...empty,
    act: e.deny ? 'deny' : 'allow',
    who: e.who,
    level: level ?? 'rights',
    rights: level ? [] : (e.bits ?? []).map((b) => asWritten[b] ?? b),
    reaches: reachOf(e.applies) ?? 'below',
    ends: e.ends ? enteredDay(e.ends) : '',
    note: e.note ?? '',
  };
}

/** An entry to be written for one or for several, or one to be changed: by a level first, or by the exact rights. */
export function EntryForm({ path, entry, onDone }: { path: string; entry?: Entry; onDone: () => void }) {
  const [was] = useState(() => (entry ? filledOf(entry) : empty));
  const form = useForm<EntryFilled>({ defaultValues: was });
  const { register, control, handleSubmit, formState } = form;
  const f = form.watch();
  const [asking, setAsking] = useState<{ changes: Change[]; done: string } | null>(null);
  const says = (a: EntryFilled) =>
    `${a.act} ${listed(a.who).join(', ')} ${a.level === 'rights' ? t`some rights` : a.level}`;
  return (
    <Box
      as="form"
      aria-label={entry ? t`Change the entry of ${entry.who} on ${path}` : t`A new entry on ${path}`}
      px="4"
      py="4"
      borderBottomWidth="1px"
      borderColor="line"
      onSubmit={handleSubmit((is) => {
        if (is.level === 'rights' && is.rights.length === 0) {
          form.setError('level', { message: t`Choose at least one right.` });
          return;
        }
        const changes = entry ? entryChanged(path, entry.id, was, is) : entriesAdded(path, listed(is.who), is);
        if (changes.length === 0) onDone();
        else setAsking({ changes, done: `${entry ? t`Changed` : t`Added`}: ${says(is)}.` });
      })}
    >
      <Previewed
        title={entry ? t`Change this entry?` : listed(f.who).length > 1 ? t`Add these entries?` : t`Add this entry?`}
        act={entry ? t`Change it` : t`Add entry`}
        changes={asking?.changes ?? null}
        done={asking?.done ?? ''}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
      <Flex gap="3" wrap="wrap" align="end">
        {!entry && (
          <>
            <Field.Root w="28">
              <Field.Label>
                <Trans>Act</Trans>
              </Field.Label>
              <Pick {...register('act')}>
                <option value="allow">
                  <Trans>allow</Trans>
                </option>
                <option value="deny">
                  <Trans>deny</Trans>
                </option>
              </Pick>
            </Field.Root>
            <Field.Root flex="1" minW="56" invalid={!!formState.errors.who}>
              <Field.Label>
                <Trans>Who</Trans>
              </Field.Label>
              <PickerField
                of="who"
                several
                autoFocus
                control={control}
                name="who"
                placeholder={t`users and groups`}
                rules={{ validate: (v) => listed(String(v)).length > 0 }}
              />
            </Field.Root>
          </>
        )}
        <Field.Root w="36" invalid={!!formState.errors.level}>
          <Field.Label>
            <Trans>Level</Trans>
          </Field.Label>
          <Pick {...register('level')}>
            {levels.map((l) => (
              <option key={l.level} value={l.level}>
                {l.level}
              </option>
            ))}
            <option value="rights">
              <Trans>exact rights</Trans>
            </option>
          </Pick>
        </Field.Root>
        <Field.Root w="44">
          <Field.Label>
            <Trans>Reaches</Trans>
          </Field.Label>
          <Pick {...register('reaches')}>
            {Object.entries(reaching).map(([name, r]) => (
              <option key={name} value={name}>
                {r.text}
              </option>
            ))}
          </Pick>
        </Field.Root>
        <Field.Root w="40">
          <Field.Label>
            <Trans>Last day</Trans>
          </Field.Label>
          <Input type="date" min={new Date().toISOString().slice(0, 10)} {...register('ends')} />
        </Field.Root>
        <Field.Root flex="1" minW="40">
          <Field.Label>
            <Trans>Note</Trans>
          </Field.Label>
          <Input placeholder={t`why it is there`} maxLength={500} {...register('note')} />
        </Field.Root>
      </Flex>
      {f.level === 'rights' && (
        <Controller
          control={control}
          name="rights"
          render={({ field }) => (
            <SimpleGrid as="fieldset" columns={{ base: 1, md: 2, xl: 3 }} gap="2" mt="4" aria-label={t`Exact rights`}>
              {rights.map((r) => (
                <Checkbox.Root
                  key={r.name}
                  size="sm"
                  checked={field.value.includes(r.name)}
                  onCheckedChange={(e) =>
                    field.onChange(
                      e.checked === true ? [...field.value, r.name] : field.value.filter((n: string) => n !== r.name),
                    )
                  }
                >
                  <Checkbox.HiddenInput />
                  <Checkbox.Control />
                  <Checkbox.Label fontWeight="400">
                    <Text as="span" fontFamily="mono" fontSize="xs">
                      {r.name}
                    </Text>{' '}
                    {r.does}
                  </Checkbox.Label>
                </Checkbox.Root>
              ))}
            </SimpleGrid>
          )}
        />
      )}
      <HStack mt="4" justify="space-between" wrap="wrap">
        <Text color="faint" fontSize="sm">
          {formState.errors.level?.message ??
            (f.level === 'rights'
              ? t`Each right is given by itself; a level is easier to read later.`
              : `${f.level}: ${levels.find((l) => l.level === f.level)?.means}`)}
        </Text>
        <HStack wrap="wrap">
          {!entry && path.includes('/') && f.act === 'allow' && (
            <Tick control={control} name="through" text={t`let them through the directories above`} />
          )}
          <FormEnd onCancel={onDone} />
        </HStack>
      </HStack>
    </Box>
  );
}
