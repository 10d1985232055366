import { Checkbox, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { zodResolver } from '@hookform/resolvers/zod';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import { api, type Change, client, type SignInNow, type Token, taken, useMe } from '../api/client';
import { lastDay, when } from '../parts/day';
import { Previewed } from '../parts/effect';
import { Entry, placeRefusal } from '../parts/form';
import { Moment } from '../parts/moment';
import { z } from '../parts/shape';
import { MainButton, PageHead, Part, QuietButton, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { sayMade, sayRefused } from '../parts/toaster';

/** How people sign in, who is signed in, and what programs act for them. */
export function Settings() {
  const mayChange = useMe().data?.role === 'administrator';
  return (
    <>
      <PageHead title={t`Settings`} text={t`How people sign in, and who and what is signed in now`}>
        <Link to="/notices">
          <QuietButton as="span">
            <Trans>Letters and webhooks</Trans>
          </QuietButton>
        </Link>
      </PageHead>
      <Stack gap="6">
        <SigningIn mayChange={mayChange} />
        <SignIns mayEnd={mayChange} />
        <Tokens mayRemove={mayChange} />
      </Stack>
    </>
  );
}

const roles = ['administrator', 'operator', 'auditor', 'user'] as const;
const Rules = z.object({
  codesFor: z.array(z.enum(roles)),
  idle: z.string().trim().min(1, t`How long, such as 2h.`),
  longest: z.string().trim().min(1, t`How long, such as 12h.`),
  passwordDays: z.string().regex(/^\d*$/, t`A number of days; none for as long as one likes.`),
});
type Filled = z.infer<typeof Rules>;

/** 12h0m0s as people write it. */
const short = (span: string) => span.replace(/(h)0m0s$/, '$1').replace(/(m)0s$/, '$1');

const useRules = () => useQuery({ queryKey: ['signing-in'], queryFn: () => taken(api.GET('/api/v1/signing-in')) });

function SigningIn({ mayChange }: { mayChange: boolean }) {
  const rules = useRules();
  if (!rules.data)
    return (
      <Part title={t`Signing in`}>
        <Waiting error={rules.error} rows={2} />
      </Part>
    );
  const is: Filled = {
    codesFor: (rules.data.codesFor ?? []).filter((r): r is Filled['codesFor'][number] => roles.some((k) => k === r)),
    idle: short(rules.data.idle),
    longest: short(rules.data.longest),
    passwordDays: rules.data.passwordDays ? String(rules.data.passwordDays) : '',
  };
  return <RulesForm key={JSON.stringify(is)} is={is} mayChange={mayChange} />;
}

function RulesForm({ is, mayChange }: { is: Filled; mayChange: boolean }) {
  const form = useForm<Filled>({ resolver: zodResolver(Rules), defaultValues: is });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const wrong = form.formState.errors;
  const codesFor = form.watch('codesFor');
  return (
    <Part title={t`Signing in`}>
      <form
        aria-label={t`Signing in`}
        onSubmit={form.handleSubmit((f) =>
          setAsking([
            {
              kind: 'signing in',
              act: 'change',
              with: {
                codesFor: f.codesFor,
                idle: f.idle,
                longest: f.longest,
                passwordDays: Number(f.passwordDays || 0),
              },
            },
          ]),
        )}
      >
        <Stack px="5" py="4" gap="4">
          <Entry label={t`Not without one-time codes`} error={wrong.codesFor as { message?: string } | undefined}>
            <HStack gap="5" wrap="wrap">
              {roles.map((r) => (
                <Checkbox.Root
                  key={r}
                  disabled={!mayChange}
                  checked={codesFor.includes(r)}
                  onCheckedChange={(e) =>
                    form.setValue('codesFor', e.checked === true ? [...codesFor, r] : codesFor.filter((c) => c !== r), {
                      shouldDirty: true,
                    })
                  }
                >
                  <Checkbox.HiddenInput />
                  <Checkbox.Control />
                  <Checkbox.Label>{r === 'user' ? t`those without a role` : t`${r}s`}</Checkbox.Label>
                </Checkbox.Root>
              ))}
            </HStack>
          </Entry>
          <Flex gap="4" wrap="wrap">
            <Entry label={t`A sign-in ends unused after`} w="56" error={wrong.idle}>
              <Input disabled={!mayChange} {...form.register('idle')} />
            </Entry>
            <Entry label={t`And at the latest after`} w="56" error={wrong.longest}>
              <Input disabled={!mayChange} {...form.register('longest')} />
            </Entry>
            <Entry
              label={t`A password holds for days`}
              w="56"
              help={t`As long as one likes, if left empty.`}
              error={wrong.passwordDays}
            >
              <Input inputMode="numeric" disabled={!mayChange} {...form.register('passwordDays')} />
            </Entry>
          </Flex>
          {mayChange && (
            <HStack>
              <MainButton type="submit" disabled={!form.formState.isDirty}>
                <Trans>See what it does</Trans>
              </MainButton>
            </HStack>
          )}
        </Stack>
      </form>
      <Previewed
        title={t`Have people sign in so?`}
        act={t`Have it so`}
        done={t`It is so from now on.`}
        changes={asking}
        onRefused={(e) => placeRefusal(e, form)}
        onClose={() => setAsking(null)}
        onDone={() => setAsking(null)}
      />
    </Part>
  );
}

function SignIns({ mayEnd }: { mayEnd: boolean }) {
  const all = useQuery({
    queryKey: ['sign-ins', 'all'],
    refetchInterval: 15_000,
    queryFn: () => taken(api.GET('/api/v1/sign-ins', { params: { query: { all: true } } })),
  });
  const end = useMutation({
    mutationFn: (s: SignInNow) => taken(api.DELETE('/api/v1/sign-ins/{id}', { params: { path: { id: s.id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['sign-ins'] }),
    onError: sayRefused,
  });
  return (
    <Part title={t`Signed in to the console`}>
      {!all.data ? (
        <Waiting error={all.error} rows={2} />
      ) : (
        <DataTable
          rows={all.data}
          rowKey={(s) => s.id}
          maxH="360px"
          columns={[
            { head: t`Who`, cell: (s) => s.user, is: { fontWeight: '600' } },
            { head: t`Role`, cell: (s) => s.role },
            { head: t`From`, cell: (s) => s.address, is: { fontFamily: 'mono' } },
            {
              head: t`As`,
              cell: (s) => (s.this ? t`this browser` : s.client),
              is: (s) => ({ maxW: '240px', truncate: true, title: s.client }),
            },
            { head: t`Last used`, cell: (s) => <Moment at={s.used} />, is: (s) => ({ title: s.used }) },
            {
              head: `-${t`End`}`,
              cell: (s) =>
                mayEnd &&
                !s.this && (
                  <QuietButton size="xs" onClick={() => end.mutate(s)}>
                    <Trans>
                      End
                      <Text srOnly>
                        the sign-in of {s.user} from {s.address}
                      </Text>
                    </Trans>
                  </QuietButton>
                ),
              is: { textAlign: 'end' },
            },
          ]}
        />
      )}
    </Part>
  );
}

function Tokens({ mayRemove }: { mayRemove: boolean }) {
  const all = useQuery({
    queryKey: ['tokens', 'all'],
    queryFn: () => taken(api.GET('/api/v1/tokens', { params: { query: { all: true } } })),
  });
  const remove = useMutation({
    mutationFn: (token: Token) =>
      taken(
        api.POST('/api/v1/changes', { body: { changes: [{ kind: 'token', act: 'remove', of: { id: token.id } }] } }),
      ),
    onSuccess: async ({ row }, token) => {
      await client.invalidateQueries({ queryKey: ['tokens'] });
      sayMade(t`The token ${token.name} of ${token.user} works no more.`, row);
    },
    onError: sayRefused,
  });
  return (
    <Part title={t`Tokens, by which programs act for people`}>
      {!all.data ? (
        <Waiting error={all.error} rows={2} />
      ) : all.data.length === 0 ? (
        <Text px="5" py="4" color="faint">
          <Trans>
            None. Everybody makes their own on the page <Link to="/account">My page</Link>.
          </Trans>
        </Text>
      ) : (
        <DataTable
          rows={all.data}
          rowKey={(token) => token.id}
          maxH="360px"
          columns={[
            { head: t`Token`, cell: (token) => token.name, is: { fontWeight: '600' } },
            { head: t`Of`, cell: (token) => token.user },
            { head: t`As`, cell: (token) => token.role },
            {
              head: t`From`,
              cell: (token) => token.from?.join(', ') || t`anywhere`,
              is: { fontFamily: 'mono', fontSize: 'sm' },
            },
            { head: t`Last used`, cell: (token) => (token.used ? when(token.used) : t`never`) },
            {
              head: t`Ends`,
              cell: (token) => (token.ended ? t`has ended` : token.ends ? lastDay(token.ends) : t`never`),
              is: (token) => ({ color: token.ended ? 'shut' : undefined }),
            },
            {
              head: `-${t`Remove`}`,
              cell: (token) =>
                mayRemove && (
                  <QuietButton size="xs" onClick={() => remove.mutate(token)}>
                    <Trans>
                      Remove
                      <Text srOnly>
                        token {token.name} of {token.user}
                      </Text>
                    </Trans>
                  </QuietButton>
                ),
              is: { textAlign: 'end' },
            },
          ]}
        />
      )}
    </Part>
  );
}
