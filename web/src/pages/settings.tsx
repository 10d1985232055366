import { Checkbox, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { zodResolver } from '@hookform/resolvers/zod';
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
      <PageHead title="Settings" text="How people sign in, and who and what is signed in now">
        <Link to="/notices">
          <QuietButton as="span">Letters and webhooks</QuietButton>
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
  idle: z.string().trim().min(1, 'How long, such as 2h.'),
  longest: z.string().trim().min(1, 'How long, such as 12h.'),
  passwordDays: z.string().regex(/^\d*$/, 'A number of days; none for as long as one likes.'),
});
type Filled = z.infer<typeof Rules>;

/** 12h0m0s as people write it. */
const short = (span: string) => span.replace(/(h)0m0s$/, '$1').replace(/(m)0s$/, '$1');

const useRules = () => useQuery({ queryKey: ['signing-in'], queryFn: () => taken(api.GET('/api/v1/signing-in')) });

function SigningIn({ mayChange }: { mayChange: boolean }) {
  const rules = useRules();
  if (!rules.data)
    return (
      <Part title="Signing in">
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
    <Part title="Signing in">
      <form
        aria-label="Signing in"
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
          <Entry label="Not without one-time codes" error={wrong.codesFor as { message?: string } | undefined}>
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
                  <Checkbox.Label>{r === 'user' ? 'those without a role' : `${r}s`}</Checkbox.Label>
                </Checkbox.Root>
              ))}
            </HStack>
          </Entry>
          <Flex gap="4" wrap="wrap">
            <Entry label="A sign-in ends unused after" w="56" error={wrong.idle}>
              <Input disabled={!mayChange} {...form.register('idle')} />
            </Entry>
            <Entry label="And at the latest after" w="56" error={wrong.longest}>
              <Input disabled={!mayChange} {...form.register('longest')} />
            </Entry>
            <Entry
              label="A password holds for days"
              w="56"
              help="As long as one likes, if left empty."
              error={wrong.passwordDays}
            >
              <Input inputMode="numeric" disabled={!mayChange} {...form.register('passwordDays')} />
            </Entry>
          </Flex>
          {mayChange && (
            <HStack>
              <MainButton type="submit" disabled={!form.formState.isDirty}>
                See what it does
              </MainButton>
            </HStack>
          )}
        </Stack>
      </form>
      <Previewed
        title="Have people sign in so?"
        act="Have it so"
        done="It is so from now on."
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
    <Part title="Signed in to the console">
      {!all.data ? (
        <Waiting error={all.error} rows={2} />
      ) : (
        <DataTable
          rows={all.data}
          rowKey={(s) => s.id}
          maxH="360px"
          columns={[
            { head: 'Who', cell: (s) => s.user, is: { fontWeight: '600' } },
            { head: 'Role', cell: (s) => s.role },
            { head: 'From', cell: (s) => s.address, is: { fontFamily: 'mono' } },
            {
              head: 'As',
              cell: (s) => (s.this ? 'this browser' : s.client),
              is: (s) => ({ maxW: '240px', truncate: true, title: s.client }),
            },
            { head: 'Last used', cell: (s) => <Moment at={s.used} />, is: (s) => ({ title: s.used }) },
            {
              head: '-End',
              cell: (s) =>
                mayEnd &&
                !s.this && (
                  <QuietButton size="xs" onClick={() => end.mutate(s)}>
                    End
                    <Text srOnly>
                      the sign-in of {s.user} from {s.address}
                    </Text>
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
    mutationFn: (t: Token) =>
      taken(api.POST('/api/v1/changes', { body: { changes: [{ kind: 'token', act: 'remove', of: { id: t.id } }] } })),
    onSuccess: async ({ row }, t) => {
      await client.invalidateQueries({ queryKey: ['tokens'] });
      sayMade(`The token ${t.name} of ${t.user} works no more.`, row);
    },
    onError: sayRefused,
  });
  return (
    <Part title="Tokens, by which programs act for people">
      {!all.data ? (
        <Waiting error={all.error} rows={2} />
      ) : all.data.length === 0 ? (
        <Text px="5" py="4" color="faint">
          None. Everybody makes their own on the page <Link to="/account">My page</Link>.
        </Text>
      ) : (
        <DataTable
          rows={all.data}
          rowKey={(t) => t.id}
          maxH="360px"
          columns={[
            { head: 'Token', cell: (t) => t.name, is: { fontWeight: '600' } },
            { head: 'Of', cell: (t) => t.user },
            { head: 'As', cell: (t) => t.role },
            { head: 'From', cell: (t) => t.from?.join(', ') || 'anywhere', is: { fontFamily: 'mono', fontSize: 'sm' } },
            { head: 'Last used', cell: (t) => (t.used ? when(t.used) : 'never') },
            {
              head: 'Ends',
              cell: (t) => (t.ended ? 'has ended' : t.ends ? lastDay(t.ends) : 'never'),
              is: (t) => ({ color: t.ended ? 'shut' : undefined }),
            },
            {
              head: '-Remove',
              cell: (t) =>
                mayRemove && (
                  <QuietButton size="xs" onClick={() => remove.mutate(t)}>
                    Remove
                    <Text srOnly>
                      token {t.name} of {t.user}
                    </Text>
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
