import { Field, Input, Stack, Text } from '@chakra-ui/react';
import { useMutation } from '@tanstack/react-query';
import { useForm } from 'react-hook-form';
import { api, nowSignedIn, Refusal, taken } from '../api/client';
import { Ask } from './confirm';
import { MainButton, Refused } from './sheet';
import { say } from './toaster';

type Form = { user: string; old: string; code: string; password: string; again: string };

/** Another password, for whoever knows theirs. Who is signed in is so again with the new one, as the old one's sessions end. */
export function OwnPassword({ user, codes, onClose }: { user?: string; codes?: boolean; onClose: () => void }) {
  const { register, handleSubmit, formState } = useForm<Form>({ defaultValues: { user: user ?? '' } });
  const wrong = formState.errors;
  const change = useMutation({
    meta: { asksPassword: true },
    mutationFn: async ({ user: name, old, code, password }: Form) => {
      await taken(api.POST('/api/v1/own-password', { body: { user: name, old, code: code || undefined, password } }));
      if (!user) return;
      if (codes)
        nowSignedIn(null); // a code is taken once: the next signs in
      else await taken(api.POST('/api/v1/sign-in', { body: { user, password } }));
    },
    onSuccess: () => {
      say('The password is changed.');
      onClose();
    },
  });
  const asksCode = codes || (change.error instanceof Refusal && change.error.need === 'code');
  return (
    <Ask
      title="Change your password"
      open
      onClose={onClose}
      act={
        <MainButton type="submit" form="own-password" loading={change.isPending}>
          Change it
        </MainButton>
      }
    >
      <form id="own-password" onSubmit={handleSubmit((f) => change.mutate(f))} noValidate>
        <Stack gap="4">
          <Text color="faint" fontSize="sm">
            It is for SMB as well, and what is signed in with the old one is signed out.
          </Text>
          {change.error && <Refused error={change.error} />}
          {!user && (
            <Field.Root invalid={!!wrong.user}>
              <Field.Label>Your user name</Field.Label>
              <Input autoComplete="username" {...register('user', { required: true })} />
              <Field.ErrorText>Type your user name.</Field.ErrorText>
            </Field.Root>
          )}
          <Field.Root invalid={!!wrong.old}>
            <Field.Label>The password as it is</Field.Label>
            <Input type="password" autoComplete="current-password" {...register('old', { required: true })} />
            <Field.ErrorText>Type the password that you have.</Field.ErrorText>
          </Field.Root>
          {asksCode && (
            <Field.Root>
              <Field.Label>One-time code</Field.Label>
              <Input fontFamily="mono" inputMode="numeric" autoComplete="one-time-code" {...register('code')} />
            </Field.Root>
          )}
          <Field.Root invalid={!!wrong.password}>
            <Field.Label>What it is to be</Field.Label>
            <Input type="password" autoComplete="new-password" {...register('password', { required: true })} />
            <Field.HelperText>Eight characters or more; a few words are easy to keep in mind.</Field.HelperText>
            <Field.ErrorText>Type a new password.</Field.ErrorText>
          </Field.Root>
          <Field.Root invalid={!!wrong.again}>
            <Field.Label>The same again</Field.Label>
            <Input
              type="password"
              autoComplete="new-password"
              {...register('again', { validate: (v, f) => v === f.password })}
            />
            <Field.ErrorText>The two are not the same.</Field.ErrorText>
          </Field.Root>
        </Stack>
      </form>
    </Ask>
  );
}
