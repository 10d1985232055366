import { Box, Center, Field, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { api, nowSignedIn, Refusal, taken, useHealth } from '../api/client';
import { SetUpCodes } from '../parts/codes';
import { GateIcon } from '../parts/icons';
import { OwnPassword } from '../parts/own-password';
import { MainButton, QuietButton, Refused, Sheet } from '../parts/sheet';

type Form = { user: string; password: string; code: string };

const needs = (error: Error | null) => (error instanceof Refusal ? error.need : undefined);

/** Sign in, or, on a gateway without an administrator, become the first one. */
export function SignIn() {
  const health = useHealth();
  const first = health.data?.needsFirst ?? false;
  const { register, handleSubmit, formState } = useForm<Form>();
  const [changing, setChanging] = useState<'password' | 'codes'>();
  const enter = useMutation({
    meta: { asksPassword: true },
    mutationFn: ({ user, password, code }: Form) =>
      first
        ? taken(api.POST('/api/v1/first-administrator', { body: { user, password, code: code.trim() } }))
        : taken(api.POST('/api/v1/sign-in', { body: { user, password, code: code?.trim() || undefined } })),
    onSuccess: (s) => nowSignedIn({ user: s.user, role: s.role }),
    onError: (error) => {
      const need = needs(error);
      if (need === 'password' || need === 'codes') setChanging(need);
    },
  });
  const asksCode = !first && needs(enter.error) === 'code';
  return (
    <Center minH="100dvh" p="4" bg="ground">
      <Box w="full" maxW="sm">
        <HStack mb="6" gap="3" justify="center">
          <GateIcon open={enter.isSuccess} boxSize="10" color="accent" />
          <Text fontSize="xl" fontWeight="700" letterSpacing="-0.01em">
            <Trans>Amber Gatekeeper</Trans>
          </Text>
        </HStack>
        <Sheet p="7">
          <form onSubmit={handleSubmit((f) => enter.mutate(f))} noValidate>
            <Stack gap="5">
              <Heading as="h1" fontSize="xl">
                {first ? t`Make the first administrator` : t`Sign in`}
              </Heading>
              {first && (
                <Text color="faint" fontSize="sm">
                  <Trans>
                    The service printed a one-time code when it started. Whoever holds it becomes the administrator.
                  </Trans>
                </Text>
              )}
              {enter.error && <Refused error={enter.error} />}
              {health.error && <Refused error={health.error} />}
              {first && (
                <Field.Root invalid={!!formState.errors.code}>
                  <Field.Label>
                    <Trans>One-time code</Trans>
                  </Field.Label>
                  <Input fontFamily="mono" autoComplete="off" {...register('code', { required: true })} />
                  <Field.ErrorText>
                    <Trans>Copy it from the service's terminal.</Trans>
                  </Field.ErrorText>
                </Field.Root>
              )}
              <Field.Root invalid={!!formState.errors.user}>
                <Field.Label>
                  <Trans>User name</Trans>
                </Field.Label>
                <Input autoComplete="username" autoFocus {...register('user', { required: true })} />
                <Field.ErrorText>
                  <Trans>Type your user name.</Trans>
                </Field.ErrorText>
              </Field.Root>
              <Field.Root invalid={!!formState.errors.password}>
                <Field.Label>
                  <Trans>Password</Trans>
                </Field.Label>
                <Input
                  type="password"
                  autoComplete={first ? 'new-password' : 'current-password'}
                  {...register('password', { required: true })}
                />
                <Field.ErrorText>
                  <Trans>Type the password.</Trans>
                </Field.ErrorText>
              </Field.Root>
              {asksCode && (
                <Field.Root>
                  <Field.Label>
                    <Trans>One-time code</Trans>
                  </Field.Label>
                  <Input
                    autoFocus
                    fontFamily="mono"
                    inputMode="numeric"
                    autoComplete="one-time-code"
                    {...register('code')}
                  />
                  <Field.HelperText>
                    <Trans>From your program for one-time codes, or a recovery code.</Trans>
                  </Field.HelperText>
                </Field.Root>
              )}
              <MainButton type="submit" loading={enter.isPending}>
                {first ? t`Make administrator` : t`Sign in`}
              </MainButton>
              {!first && (
                <QuietButton onClick={() => setChanging('password')}>
                  <Trans>Change your password</Trans>
                </QuietButton>
              )}
            </Stack>
          </form>
        </Sheet>
        {changing === 'password' && <OwnPassword onClose={() => setChanging(undefined)} />}
        {changing === 'codes' && <SetUpCodes codes={false} onClose={() => setChanging(undefined)} />}
      </Box>
    </Center>
  );
}
