import { Box, Field, HStack, Menu, Portal, Stack, Text, Textarea } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { change } from '../api/change';
import { api, type Change, type Place, taken } from '../api/client';
import { Previewed } from './effect';
import { FormEnd } from './form';
import { Pick } from './pick';
import { Picker } from './picker';
import { MainButton, QuietButton, Refused } from './sheet';

type Act = { title: string; act: string; text: string; changes: Change[] };

/** What can be done with all that is written on a path, each shown before it is done. */
export function RuleActs({ place, onForm }: { place: Place; onForm: (form: 'copy' | 'text') => void }) {
  const [asking, setAsking] = useState<Act | null>(null);
  const below = place.path.includes('/');
  const inheritance = (inherit: boolean, copy: boolean) => [
    change('inheritance', 'set', { with: { path: place.path, inherit, copy } }),
  ];
  const clear = (all: boolean) => [change('rules', 'clear', { of: { path: place.path, below: all } })];
  const acts = [
    below &&
      !place.cut && {
        title: t`Cut off, with a copy`,
        act: t`Cut off`,
        text: t`It inherits nothing from above any more; what it inherited is written on it.`,
        changes: inheritance(false, true),
      },
    below &&
      !place.cut && {
        title: t`Cut off, without`,
        act: t`Cut off`,
        text: t`It inherits nothing from above any more. What is written on it alone decides.`,
        changes: inheritance(false, false),
      },
    below &&
      place.cut && {
        title: t`Inherit again`,
        act: t`Inherit`,
        text: t`What is written above holds here as well.`,
        changes: inheritance(true, false),
      },
    place.explicit > 0 && {
      title: t`Clear`,
      act: t`Clear`,
      text: t`What is written here is removed. Data is not touched.`,
      changes: clear(false),
    },
    {
      title: t`Clear here and below`,
      act: t`Clear`,
      text: t`What is written here and on every path below is removed. Data is not touched.`,
      changes: clear(true),
    },
  ].filter((a): a is Act => a !== false);
  return (
    <>
      <Menu.Root>
        <Menu.Trigger asChild>
          <QuietButton size="sm" bg="sheet" aria-label={t`More for ${place.path}`}>
            <Trans>More</Trans>
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
              <Menu.Item value="copy" onClick={() => onForm('copy')}>
                <Trans>As on another path</Trans>
              </Menu.Item>
              <Menu.Item value="text" onClick={() => onForm('text')}>
                <Trans>As text, out and in</Trans>
              </Menu.Item>
            </Menu.Content>
          </Menu.Positioner>
        </Portal>
      </Menu.Root>
      <Previewed
        title={`${asking?.title}: ${place.path}?`}
        act={asking?.act ?? ''}
        changes={asking?.changes ?? null}
        done={t`Done: ${asking?.title ?? ''}.`}
        onClose={() => setAsking(null)}
        onDone={() => setAsking(null)}
      >
        <Text>{asking?.text}</Text>
      </Previewed>
    </>
  );
}

/** What holds on another path is made to hold here. */
export function CopyFrom({ path, onDone }: { path: string; onDone: () => void }) {
  const [from, setFrom] = useState('');
  const [asking, setAsking] = useState<Change[] | null>(null);
  return (
    <Box px="4" py="4" borderBottomWidth="1px" borderColor="line">
      <HStack align="end" gap="3" wrap="wrap">
        <Field.Root flex="1" minW="56">
          <Field.Label>
            <Trans>As on</Trans>
          </Field.Label>
          <Picker of="path" mono autoFocus value={from} onChange={setFrom} placeholder={t`folder/path`} />
        </Field.Root>
        <QuietButton size="sm" onClick={onDone}>
          <Trans>Cancel</Trans>
        </QuietButton>
        <MainButton
          size="sm"
          disabled={!from.trim()}
          onClick={() => setAsking([change('rules', 'copy', { with: { from: from.trim(), to: path } })])}
        >
          <Trans>See what it does</Trans>
        </MainButton>
      </HStack>
      <Previewed
        title={t`Make ${path} as ${from} is?`}
        act={t`Make it so`}
        changes={asking}
        done={t`${path} has what holds on ${from}.`}
        onClose={() => setAsking(null)}
        onDone={onDone}
      >
        <Text>
          <Trans>What holds there, written on it or inherited, is written here in the place of what is.</Trans>
        </Text>
      </Previewed>
    </Box>
  );
}

type TextFilled = { format: 'nfs4' | 'sddl'; text: string };

/** What is written on a path as the text of an open form, to be taken away, or changed and put back. */
export function AsText({ path, onDone }: { path: string; onDone: () => void }) {
  const { register, handleSubmit, watch, setValue } = useForm<TextFilled>({
    defaultValues: { format: 'nfs4', text: '' },
  });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const format = watch('format');
  const fetched = useMutation({
    mutationFn: () => taken(api.GET('/api/v1/acls', { params: { query: { path, format } } })),
    onSuccess: (is) => setValue('text', is.text),
  });
  return (
    <Box
      as="form"
      px="4"
      py="4"
      borderBottomWidth="1px"
      borderColor="line"
      onSubmit={handleSubmit((f) => setAsking([change('entries', 'import', { with: { path, ...f } })]))}
    >
      <Stack gap="3">
        <HStack align="end" gap="3" wrap="wrap">
          <Field.Root w="72">
            <Field.Label>
              <Trans>Form</Trans>
            </Field.Label>
            <Pick {...register('format')}>
              <option value="nfs4">
                <Trans>NFSv4 entries, one a line</Trans>
              </option>
              <option value="sddl">
                <Trans>a security descriptor (SDDL)</Trans>
              </option>
            </Pick>
          </Field.Root>
          <QuietButton size="sm" loading={fetched.isPending} onClick={() => fetched.mutate()}>
            <Trans>What is written now</Trans>
          </QuietButton>
        </HStack>
        {fetched.error && <Refused error={fetched.error} />}
        <Textarea
          rows={5}
          fontFamily="mono"
          fontSize="sm"
          aria-label={t`Entries of ${path} as text`}
          placeholder={format === 'nfs4' ? t`A:fdg:observers:rwaxdDtTnNcy` : t`D:(A;OICI;FA;;;…)`}
          {...register('text', { required: true })}
        />
        <HStack justify="end">
          <FormEnd onCancel={onDone} />
        </HStack>
      </Stack>
      <Previewed
        title={t`Write this on ${path}?`}
        act={t`Write it`}
        changes={asking}
        done={t`${path} has what the text says.`}
        onClose={() => setAsking(null)}
        onDone={onDone}
      >
        <Text>
          <Trans>It takes the place of what is written there. What it inherits stays.</Trans>
        </Text>
      </Previewed>
    </Box>
  );
}
