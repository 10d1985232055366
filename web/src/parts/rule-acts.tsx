import { Box, Field, HStack, Menu, Portal, Stack, Text, Textarea } from '@chakra-ui/react';
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
  ].filter((a): a is Act => a !== false);
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
              <Menu.Item value="copy" onClick={() => onForm('copy')}>
                As on another path
              </Menu.Item>
              <Menu.Item value="text" onClick={() => onForm('text')}>
                As text, out and in
              </Menu.Item>
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

/** What holds on another path is made to hold here. */
export function CopyFrom({ path, onDone }: { path: string; onDone: () => void }) {
  const [from, setFrom] = useState('');
  const [asking, setAsking] = useState<Change[] | null>(null);
  return (
    <Box px="4" py="4" borderBottomWidth="1px" borderColor="line">
      <HStack align="end" gap="3" wrap="wrap">
        <Field.Root flex="1" minW="56">
          <Field.Label>As on</Field.Label>
          <Picker of="path" mono autoFocus value={from} onChange={setFrom} placeholder="folder/path" />
        </Field.Root>
        <QuietButton size="sm" onClick={onDone}>
          Cancel
        </QuietButton>
        <MainButton
          size="sm"
          disabled={!from.trim()}
          onClick={() => setAsking([change('rules', 'copy', { with: { from: from.trim(), to: path } })])}
        >
          See what it does
        </MainButton>
      </HStack>
      <Previewed
        title={`Make ${path} as ${from} is?`}
        act="Make it so"
        changes={asking}
        done={`${path} has what holds on ${from}.`}
        onClose={() => setAsking(null)}
        onDone={onDone}
      >
        <Text>What holds there, written on it or inherited, is written here in the place of what is.</Text>
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
            <Field.Label>Form</Field.Label>
            <Pick {...register('format')}>
              <option value="nfs4">NFSv4 entries, one a line</option>
              <option value="sddl">a security descriptor (SDDL)</option>
            </Pick>
          </Field.Root>
          <QuietButton size="sm" loading={fetched.isPending} onClick={() => fetched.mutate()}>
            What is written now
          </QuietButton>
        </HStack>
        {fetched.error && <Refused error={fetched.error} />}
        <Textarea
          rows={5}
          fontFamily="mono"
          fontSize="sm"
          aria-label={`Entries of ${path} as text`}
          placeholder={format === 'nfs4' ? 'A:fdg:observers:rwaxdDtTnNcy' : 'D:(A;OICI;FA;;;…)'}
          {...register('text', { required: true })}
        />
        <HStack justify="end">
          <FormEnd onCancel={onDone} />
        </HStack>
      </Stack>
      <Previewed
        title={`Write this on ${path}?`}
        act="Write it"
        changes={asking}
        done={`${path} has what the text says.`}
        onClose={() => setAsking(null)}
        onDone={onDone}
      >
        <Text>It takes the place of what is written there. What it inherits stays.</Text>
      </Previewed>
    </Box>
  );
}
