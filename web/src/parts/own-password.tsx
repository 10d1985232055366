import { Field, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
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
      say(t`The password is changed.`);
      onClose();
    },
  });
  const asksCode = codes || (change.error instanceof Refusal && change.error.need === 'code');
  return (
    <Ask
      title={t`Change your password`}
      open
      onClose={onClose}
      act={
        <MainButton type="submit" form="own-password" loading={change.isPending}>
          <Trans>Change it</Trans>
        </MainButton>
      }
    >
      <form id="own-password" onSubmit={handleSubmit((f) => change.mutate(f))} noValidate>
        <Stack gap="4">
          <Text color="faint" fontSize="sm">
            <Trans>It is for SMB as well, and what is signed in with the old one is signed out.</Trans>
          </Text>
          {change.error && <Refused error={change.error} />}
          {!user && (
            <Field.Root invalid={!!wrong.user}>
              <Field.Label>
                <Trans>Your user name</Trans>
              </Field.Label>
              <Input autoComplete="username" {...register('user', { required: true })} />
              <Field.ErrorText>
                <Trans>Type your user name.</Trans>
              </Field.ErrorText>
            </Field.Root>
          )}
          <Field.Root invalid={!!wrong.old}>
            <Field.Label>
              <Trans>The password as it is</Trans>
            </Field.Label>
            <Input type="password" autoComplete="current-password" {...register('old', { required: true })} />
            <Field.ErrorText>
              <Trans>Type the password that you have.</Trans>
            </Field.ErrorText>
          </Field.Root>
          {asksCode && (
            <Field.Root>
              <Field.Label>
                <Trans>One-time code</Trans>
              </Field.Label>
              <Input fontFamily="mono" inputMode="numeric" autoComplete="one-time-code" {...register('code')} />
            </Field.Root>
          )}
          <Field.Root invalid={!!wrong.password}>
            <Field.Label>
              <Trans>What it is to be</Trans>
            </Field.Label>
            <Input type="password" autoComplete="new-password" {...register('password', { required: true })} />
            <Field.HelperText>
              <Trans>Eight characters or more; a few words are easy to keep in mind.</Trans>
            </Field.HelperText>
            <Field.ErrorText>
              <Trans>Type a new password.</Trans>
            </Field.ErrorText>
          </Field.Root>
          <Field.Root invalid={!!wrong.again}>
            <Field.Label>
              <Trans>The same again</Trans>
            </Field.Label>
            <Input
              type="password"
              autoComplete="new-password"
              {...register('again', { validate: (v, f) => v === f.password })}
            />
            <Field.ErrorText>
              <Trans>The two are not the same.</Trans>
            </Field.ErrorText>
          </Field.Root>
        </Stack>
      </form>
    </Ask>
  );
}
