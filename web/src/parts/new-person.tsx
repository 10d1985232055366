import { Checkbox, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { zodResolver } from '@hookform/resolvers/zod';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { type Change, useProfiles } from '../api/client';
import { afterLastDay } from './day';
import { Previewed } from './effect';
import { Entry, placeRefusal } from './form';
import { Pick } from './pick';
import { z } from './shape';
import { MainButton, QuietButton, Sheet } from './sheet';
import { listed } from './words';

const NewPerson = z.object({
  name: z.string().trim().min(1, t`People are known by a short name, such as wren.`),
  fullName: z.string().trim(),
  uid: z.string().trim().regex(/^\d*$/, t`A number, to match what clients have; the next free one if left empty.`),
  mail: z.string().trim(),
  groups: z.string(),
  profile: z.string(),
  password: z.string(),
  mustChange: z.boolean(),
  ends: z.string(),
});
type Filled = z.infer<typeof NewPerson>;

/** Somebody more, by hand. */
export function AddPerson({ onDone }: { onDone: () => void }) {
  const profiles = useProfiles();
  const form = useForm<Filled>({
    resolver: zodResolver(NewPerson),
    defaultValues: {
      name: '',
      fullName: '',
      uid: '',
      mail: '',
      groups: '',
      profile: '',
      password: '',
      mustChange: true,
      ends: '',
    },
  });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const wrong = form.formState.errors;
  const submit = (f: Filled) => {
    const groups = listed(f.groups);
    setAsking([
      {
        kind: 'user',
        act: 'add',
        with: {
          name: f.name,
          ...(f.fullName && { fullName: f.fullName }),
          ...(f.uid && { uid: Number(f.uid) }),
          ...(f.mail && { mail: f.mail }),
          ...(groups.length > 0 && { groups }),
          ...(f.profile && { profile: f.profile }),
          ...(f.password ? { password: f.password, mustChange: f.mustChange } : {}),
          ...(f.ends && { ends: afterLastDay(f.ends) }),
        },
      },
    ]);
  };
  return (
    <Sheet p="5" mb="6">
      <form aria-label={t`A new person`} onSubmit={form.handleSubmit(submit)}>
        <Stack gap="4">
          <Flex gap="4" wrap="wrap">
            <Entry label={t`Name`} w="44" error={wrong.name}>
              <Input autoFocus autoComplete="off" {...form.register('name')} />
            </Entry>
            <Entry label={t`Full name`} flex="1" minW="52" error={wrong.fullName}>
              <Input autoComplete="off" {...form.register('fullName')} />
            </Entry>
            <Entry label={t`Mail`} flex="1" minW="52" error={wrong.mail}>
              <Input autoComplete="off" {...form.register('mail')} />
            </Entry>
          </Flex>
          <Flex gap="4" wrap="wrap">
            <Entry label={t`Groups`} flex="1" minW="52" error={wrong.groups}>
              <Input autoComplete="off" placeholder={t`observers, staff`} {...form.register('groups')} />
            </Entry>
            <Entry label={t`Profile`} w="44" error={wrong.profile}>
              <Pick {...form.register('profile')}>
                <option value="">
                  <Trans>none</Trans>
                </option>
                {profiles.data?.map((p) => (
                  <option key={p.name}>{p.name}</option>
                ))}
              </Pick>
            </Entry>
            <Entry label="uid" w="32" help={t`The next free one.`} error={wrong.uid}>
              <Input inputMode="numeric" autoComplete="off" {...form.register('uid')} />
            </Entry>
            <Entry label={t`Last day`} w="44" help={t`None, if left empty.`} error={wrong.ends}>
              <Input type="date" {...form.register('ends')} />
            </Entry>
          </Flex>
          <Flex gap="4" wrap="wrap" align="start">
            <Entry label={t`First password`} w="72" help={t`Can be given later, too.`} error={wrong.password}>
              <Input type="password" autoComplete="new-password" {...form.register('password')} />
            </Entry>
            <Checkbox.Root
              pt="8"
              checked={form.watch('mustChange')}
              onCheckedChange={(e) => form.setValue('mustChange', e.checked === true)}
            >
              <Checkbox.HiddenInput />
              <Checkbox.Control />
              <Checkbox.Label>
                <Trans>They have to change it first</Trans>
              </Checkbox.Label>
            </Checkbox.Root>
          </Flex>
          <HStack>
            <MainButton type="submit">
              <Trans>See what it does</Trans>
            </MainButton>
            <QuietButton onClick={onDone}>
              <Trans>Leave it</Trans>
            </QuietButton>
          </HStack>
        </Stack>
      </form>
      <Previewed
        title={t`Put ${form.getValues('name')} in?`}
        act={t`Put them in`}
        done={t`${form.getValues('name')} is put in.`}
        changes={asking}
        onRefused={(e) => placeRefusal(e, form, { primaryGroup: 'groups' })}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          onDone();
        }}
      >
        {!form.getValues('password') && (
          <Text color="faint">
            <Trans>Without a password nobody signs in as them yet.</Trans>
          </Text>
        )}
      </Previewed>
    </Sheet>
  );
}
