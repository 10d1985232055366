import { Box, Field, Flex, Input, SimpleGrid, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { useForm } from 'react-hook-form';
import { api, client, taken } from '../api/client';
import { Ask } from './confirm';
import { QrCode } from './qr';
import { MainButton, Refused } from './sheet';

type Proof = { user: string; password: string; code: string };

/** Who somebody is, shown again: for what nobody else is to do in a session that was left open. */
export function ProofFields({
  user,
  codes,
  register,
  wrong,
}: {
  user?: string;
  codes: boolean;
  register: ReturnType<typeof useForm<Proof>>['register'];
  wrong: Partial<Record<keyof Proof, unknown>>;
}) {
  return (
    <>
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
      <Field.Root invalid={!!wrong.password}>
        <Field.Label>
          <Trans>Your password</Trans>
        </Field.Label>
        <Input type="password" autoComplete="current-password" {...register('password', { required: true })} />
        <Field.ErrorText>
          <Trans>Type your password.</Trans>
        </Field.ErrorText>
      </Field.Root>
      {codes && (
        <Field.Root invalid={!!wrong.code}>
          <Field.Label>
            <Trans>A one-time code as it is now</Trans>
          </Field.Label>
          <Input
            fontFamily="mono"
            inputMode="numeric"
            autoComplete="one-time-code"
            {...register('code', { required: true })}
          />
          <Field.HelperText>
            <Trans>Or a recovery code.</Trans>
          </Field.HelperText>
          <Field.ErrorText>
            <Trans>Type the code that your program shows.</Trans>
          </Field.ErrorText>
        </Field.Root>
      )}
    </>
  );
}

/** Sets one-time codes up: prove who you are, read the QR code, show a code, keep the recovery codes. */
export function SetUpCodes({ user, codes, onClose }: { user?: string; codes: boolean; onClose: () => void }) {
  const proof = useForm<Proof>({ defaultValues: { user: user ?? '', password: '', code: '' } });
  const shown = useForm<{ fresh: string }>();
  const begin = useMutation({
    meta: { asksPassword: true },
    mutationFn: (f: Proof) =>
      taken(api.POST('/api/v1/own-codes', { body: { user: f.user, password: f.password, code: f.code || undefined } })),
  });
  const confirm = useMutation({
    meta: { asksPassword: true },
    mutationFn: ({ fresh }: { fresh: string }) => {
      const { user: name, password } = proof.getValues();
      return taken(api.POST('/api/v1/own-codes/confirm', { body: { user: name, password, fresh } }));
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ['me'] }),
  });
  const step = confirm.data ? 'keep' : begin.data ? 'read' : 'prove';
  return (
    <Ask
      title={t`One-time codes`}
      open
      onClose={onClose}
      act={
        step === 'keep' ? (
          <MainButton onClick={onClose}>
            <Trans>I have kept them</Trans>
          </MainButton>
        ) : (
          <MainButton type="submit" form={`codes-${step}`} loading={begin.isPending || confirm.isPending}>
            {step === 'prove' ? t`Go on` : t`Have them from now on`}
          </MainButton>
        )
      }
    >
      {step === 'prove' && (
        <form id="codes-prove" onSubmit={proof.handleSubmit((f) => begin.mutate(f))} noValidate>
          <Stack gap="4">
            <Text color="faint" fontSize="sm">
              <Trans>The console then asks for a code besides the password. SMB does not.</Trans>
            </Text>
            {begin.error && <Refused error={begin.error} />}
            <ProofFields user={user} codes={codes} register={proof.register} wrong={proof.formState.errors} />
          </Stack>
        </form>
      )}
      {step === 'read' && begin.data && (
        <form id="codes-read" onSubmit={shown.handleSubmit((f) => confirm.mutate(f))} noValidate>
          <Stack gap="4">
            <Text>
              <Trans>Read this with a program for one-time codes, and type the code that it shows.</Trans>
            </Text>
            {confirm.error && <Refused error={confirm.error} />}
            <Flex justify="center">
              <QrCode label={t`QR code for the program`} rows={begin.data.qr} />
            </Flex>
            <Box>
              <Text fontSize="sm" color="faint">
                <Trans>Where no picture can be taken, type this secret:</Trans>
              </Text>
              <Text fontFamily="mono" fontSize="sm" wordBreak="break-all">
                {begin.data.secret}
              </Text>
            </Box>
            <Field.Root invalid={!!shown.formState.errors.fresh}>
              <Field.Label>
                <Trans>The code that it shows</Trans>
              </Field.Label>
              <Input
                fontFamily="mono"
                inputMode="numeric"
                autoComplete="one-time-code"
                {...shown.register('fresh', { required: true })}
              />
              <Field.ErrorText>
                <Trans>Type the six digits.</Trans>
              </Field.ErrorText>
            </Field.Root>
          </Stack>
        </form>
      )}
      {step === 'keep' && confirm.data && (
        <Stack gap="4">
          <Text>
            <Trans>
              Each of these stands for one code, once. Keep them where you find them without what makes the codes; they
              are not shown again.
            </Trans>
          </Text>
          <SimpleGrid columns={2} gap="2" fontFamily="mono" aria-label={t`Recovery codes`}>
            {confirm.data.codes.map((c) => (
              <Text key={c}>{c}</Text>
            ))}
          </SimpleGrid>
        </Stack>
      )}
    </Ask>
  );
}

/** Has one sign in without, from then on. */
export function RemoveCodes({ user, onClose }: { user: string; onClose: () => void }) {
  const proof = useForm<Proof>({ defaultValues: { user, password: '', code: '' } });
  const remove = useMutation({
    meta: { asksPassword: true },
    mutationFn: (f: Proof) => taken(api.POST('/api/v1/own-codes/remove', { body: f })),
    onSuccess: () => {
      client.invalidateQueries({ queryKey: ['me'] });
      onClose();
    },
  });
  return (
    <Ask
      title={t`Sign in without one-time codes`}
      open
      onClose={onClose}
      act={
        <MainButton type="submit" form="codes-remove" bg="shut" loading={remove.isPending}>
          <Trans>Remove them</Trans>
        </MainButton>
      }
    >
      <form id="codes-remove" onSubmit={proof.handleSubmit((f) => remove.mutate(f))} noValidate>
        <Stack gap="4">
          {remove.error && <Refused error={remove.error} />}
          <ProofFields user={user} codes register={proof.register} wrong={proof.formState.errors} />
        </Stack>
      </form>
    </Ask>
  );
}
