import { Box, Field, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import { api, client, type Me, type SignInNow, type Token, taken, useMe } from '../api/client';
import { RemoveCodes, SetUpCodes } from '../parts/codes';
import { afterLastDay, lastDay } from '../parts/day';
import { Moment } from '../parts/moment';
import { OwnPassword } from '../parts/own-password';
import { Pick } from '../parts/pick';
import { Reach } from '../parts/reach';
import { Fact, MainButton, PageHead, Part, QuietButton, Refused, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { say, sayRefused } from '../parts/toaster';
import { InUse, span, stateOf, UseBar } from '../parts/use';
import { WaysIn } from '../parts/ways-in';
import { listed } from '../parts/words';

const useSignIns = () =>
  useQuery({ queryKey: ['sign-ins'], queryFn: () => taken(api.GET('/api/v1/sign-ins')), refetchInterval: 15_000 });
const useTokens = () => useQuery({ queryKey: ['tokens'], queryFn: () => taken(api.GET('/api/v1/tokens')) });

const useOwn = () => useQuery({ queryKey: ['own'], queryFn: () => taken(api.GET('/api/v1/own')) });

/** What is one's own: where one gets and how to open it, what one has stored, how one signs in, and what programs do on one's behalf. */
export function Account() {
  const me = useMe().data;
  const [asks, setAsks] = useState<'password' | 'codes' | 'no codes'>();
  if (!me) return null;
  const close = () => setAsks(undefined);
  return (
    <>
      <PageHead title={t`My page`} text={me.user}>
        <HStack wrap="wrap">
          <QuietButton onClick={() => setAsks('password')}>
            <Trans>Change your password</Trans>
          </QuietButton>
          <QuietButton onClick={() => setAsks('codes')}>
            {me.codes ? t`Set up other one-time codes` : t`Set up one-time codes`}
          </QuietButton>
          {me.codes && (
            <QuietButton onClick={() => setAsks('no codes')}>
              <Trans>Remove one-time codes</Trans>
            </QuietButton>
          )}
        </HStack>
      </PageHead>
      <Flex gap="6" mb="8" wrap="wrap">
        <Fact name={t`Role`}>{me.role}</Fact>
        <Fact name={t`One-time codes`}>
          {me.codes ? t`asked for; ${me.recoveryLeft ?? 0} recovery codes are left` : t`none`}
        </Fact>
      </Flex>
      {asks === 'password' && <OwnPassword user={me.user} codes={me.codes} onClose={close} />}
      {asks === 'codes' && <SetUpCodes user={me.user} codes={me.codes} onClose={close} />}
      {asks === 'no codes' && <RemoveCodes user={me.user} onClose={close} />}
      <Stack gap="6">
        <OwnFolders />
        <OwnUse />
        <Decides me={me} />
        <Reaches user={me.user} />
        <OwnSessions />
        <SignIns />
        <Tokens role={me.role} />
      </Stack>
    </>
  );
}

/** What somebody may do, as people say it. */
const plainly: Record<string, string> = {
  pass: t`You may go through it, and see nothing.`,
  read: t`You may look and read.`,
  add: t`You may put new things in, and change nothing.`,
  'read and add': t`You may read, and put new things in.`,
  change: t`You may read, add, alter and delete.`,
  control: t`You may do all of that, and decide who else may.`,
};

/** The folders that one gets into, each with how to open it on the machine that one has. */
function OwnFolders() {
  const own = useOwn();
  const [open, setOpen] = useState<string | null>(null);
  return (
    <Part title={t`Your folders`}>
      {!own.data ? (
        <Waiting error={own.error} rows={2} />
      ) : own.data.folders.length === 0 ? (
        <Text px="5" py="3" color="faint">
          <Trans>None yet: ask whoever looks after the gateway.</Trans>
        </Text>
      ) : (
        own.data.folders.map((f) => {
          const level = f.level.smb === 'nothing' ? f.level.nfs : f.level.smb;
          return (
            <Box key={f.name} px="5" py="4" borderBottomWidth="1px" borderColor="line" _last={{ borderBottomWidth: 0 }}>
              <Flex justify="space-between" gap="3" align="start" wrap="wrap">
                <Box flex="1" minW="48">
                  <Text fontWeight="700" wordBreak="break-word">
                    {f.name}
                  </Text>
                  <Text color="faint" fontSize="sm">
                    {f.description}
                  </Text>
                  <Text mt="1">
                    {plainly[level] ?? level}
                    {f.at !== f.name && t` You get in at ${f.at}.`}
                  </Text>
                </Box>
                {f.ways.length > 0 && (
                  <QuietButton
                    size="sm"
                    aria-expanded={open === f.name}
                    onClick={() => setOpen(open === f.name ? null : f.name)}
                  >
                    <Trans>
                      How to open it
                      <Text srOnly>: {f.name}</Text>
                    </Trans>
                  </QuietButton>
                )}
              </Flex>
              {open === f.name && (
                <Box mt="4">
                  <WaysIn ways={f.ways} />
                </Box>
              )}
            </Box>
          );
        })
      )}
    </Part>
  );
}

/** How much one has stored, and how much one may. */
function OwnUse() {
  const own = useOwn();
  const use = own.data?.use;
  if (!use) return null;
  return (
    <Part title={t`What you have stored`}>
      <Stack px="5" py="4" gap="4">
        <InUse use={use} />
        {use.standings.map((s) => (
          <Box key={s.limitId} maxW="560px">
            <Text fontSize="sm" fontWeight="600" mb="1">
              {s.subject}
            </Text>
            <UseBar standing={s} />
            {stateOf(s).text && (
              <Text fontSize="sm" fontWeight="600" color={stateOf(s).bad ? 'shut' : 'accent'}>
                {stateOf(s).text}
              </Text>
            )}
          </Box>
        ))}
        {use.standings.length === 0 && (
          <Text color="faint">
            <Trans>No limit bears on you.</Trans>
          </Text>
        )}
      </Stack>
    </Part>
  );
}

function Decides({ me }: { me: Me }) {
  if (!me.decides.length && !me.owns.length) return null;
  return (
    <Part title={t`You decide`}>
      <Stack px="5" py="3" gap="2">
        {me.decides.map((name) => (
          <Link key={name} to={`/own/folders/${encodeURIComponent(name)}`}>
            <Text textDecoration="underline">
              <Trans>who gets into {name}</Trans>
            </Text>
          </Link>
        ))}
        {me.owns.map((name) => (
          <Link key={name} to={`/own/groups/${encodeURIComponent(name)}`}>
            <Text textDecoration="underline">
              <Trans>who is in the group {name}</Trans>
            </Text>
          </Link>
        ))}
      </Stack>
    </Part>
  );
}

function Reaches({ user }: { user: string }) {
  const reach = useQuery({
    queryKey: ['reach', user],
    queryFn: () => taken(api.GET('/api/v1/reach', { params: { query: { user } } })),
  });
  return (
    <Part title={t`What you reach, path by path`}>
      {!reach.data ? (
        <Waiting error={reach.error} rows={2} />
      ) : (
        <Reach user={user} spots={reach.data.spots} empty={t`Nowhere yet.`} />
      )}
    </Part>
  );
}

/** Where one is connected to folders just now. */
function OwnSessions() {
  const own = useOwn();
  const sessions = own.data?.sessions ?? [];
  if (sessions.length === 0) return null;
  return (
    <Part title={t`Connected now`}>
      <DataTable
        rows={sessions}
        rowKey={(s) => `${s.via} ${s.address} ${s.since}`}
        columns={[
          { head: t`Over`, cell: (s) => `${s.via.toUpperCase()} ${s.version}`, is: { fontWeight: '600' } },
          { head: t`From`, cell: (s) => s.host ?? s.address, is: (s) => ({ title: s.address }) },
          { head: t`Since`, cell: (s) => <Moment at={s.since} /> },
          { head: t`Idle`, cell: (s) => (s.idle < 60 ? t`${s.idle} s` : span(s.idle)) },
        ]}
      />
    </Part>
  );
}

function SignIns() {
  const all = useSignIns();
  const end = useMutation({
    mutationFn: (s: SignInNow) => taken(api.DELETE('/api/v1/sign-ins/{id}', { params: { path: { id: s.id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['sign-ins'] }),
    onError: sayRefused,
  });
  return (
    <Part title={t`Where you are signed in`}>
      {!all.data ? (
        <Waiting error={all.error} rows={2} />
      ) : (
        <DataTable
          rows={all.data}
          rowKey={(s) => s.id}
          columns={[
            { head: t`From`, cell: (s) => s.address, is: { fontFamily: 'mono' } },
            {
              head: t`As`,
              cell: (s) => (s.this ? t`this browser` : s.client),
              is: (s) => ({ maxW: '280px', truncate: true, title: s.client }),
            },
            { head: t`Since`, cell: (s) => <Moment at={s.begun} /> },
            { head: t`Last used`, cell: (s) => <Moment at={s.used} /> },
            {
              head: `-${t`End`}`,
              cell: (s) =>
                !s.this && (
                  <QuietButton
                    size="sm"
                    aria-label={t`End the sign-in from ${s.address}`}
                    onClick={() => end.mutate(s)}
                  >
                    <Trans>End</Trans>
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

const narrower: Record<Me['role'], Me['role'][]> = {
  administrator: ['administrator', 'operator', 'auditor', 'user'],
  operator: ['operator', 'auditor', 'user'],
  auditor: ['auditor', 'user'],
  user: ['user'],
};

function Tokens({ role }: { role: Me['role'] }) {
  const all = useTokens();
  const [adding, setAdding] = useState(false);
  const [made, setMade] = useState<Token>();
  const remove = useMutation({
    mutationFn: (token: Token) => taken(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id: token.id } } })),
    onSuccess: (_, token) => {
      say(t`The token ${token.name} is taken back.`);
      client.invalidateQueries({ queryKey: ['tokens'] });
    },
    onError: sayRefused,
  });
  return (
    <Part
      title={t`Tokens of programs`}
      act={
        !adding && (
          <QuietButton size="sm" bg="sheet" onClick={() => setAdding(true)}>
            <Trans>Make a token</Trans>
          </QuietButton>
        )
      }
    >
      {adding && (
        <NewToken
          role={role}
          onDone={(token) => {
            setAdding(false);
            setMade(token);
          }}
        />
      )}
      {made?.text && (
        <Box px="5" py="4" borderBottomWidth="1px" borderColor="line">
          <Text mb="1">
            <Trans>
              The token {made.name}. It is shown this once; a program sends it as a bearer token (RFC 6750).
            </Trans>
          </Text>
          <Text fontFamily="mono" fontSize="sm" wordBreak="break-all" aria-label={t`The token`}>
            {made.text}
          </Text>
        </Box>
      )}
      {!all.data ? (
        <Waiting error={all.error} rows={2} />
      ) : all.data.length === 0 ? (
        <Text px="5" py="3" color="faint">
          <Trans>No program uses the API on your behalf.</Trans>
        </Text>
      ) : (
        <DataTable
          rows={all.data}
          rowKey={(token) => token.id}
          columns={[
            { head: t`Name`, cell: (token) => token.name, is: { fontWeight: '600' } },
            { head: t`Role`, cell: (token) => token.role },
            {
              head: t`Last day`,
              cell: (token) => (token.ends ? lastDay(token.ends) : t`never ends`),
              is: (token) => ({ color: token.ended ? 'shut' : undefined }),
            },
            {
              head: t`Last used`,
              cell: (token) =>
                token.used ? (
                  <Trans>
                    <Moment at={token.used} /> from {token.address}
                  </Trans>
                ) : (
                  t`never`
                ),
            },
            { head: t`From`, cell: (token) => token.from.join(', ') || t`anywhere` },
            {
              head: `-${t`Remove`}`,
              cell: (token) => (
                <QuietButton
                  size="sm"
                  aria-label={t`Take back the token ${token.name}`}
                  onClick={() => remove.mutate(token)}
                >
                  <Trans>Take back</Trans>
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

type TokenForm = { name: string; role: Me['role']; ends: string; from: string };

function NewToken({ role, onDone }: { role: Me['role']; onDone: (made?: Token) => void }) {
  const { register, handleSubmit, formState } = useForm<TokenForm>({ defaultValues: { role } });
  const add = useMutation({
    mutationFn: (f: TokenForm) =>
      taken(
        api.POST('/api/v1/tokens', {
          body: {
            name: f.name,
            role: f.role,
            ends: f.ends ? afterLastDay(f.ends) : undefined,
            from: listed(f.from),
          },
        }),
      ),
    onSuccess: (token) => {
      client.invalidateQueries({ queryKey: ['tokens'] });
      onDone(token);
    },
  });
  return (
    <form onSubmit={handleSubmit((f) => add.mutate(f))} noValidate>
      <Stack px="5" py="4" gap="4" borderBottomWidth="1px" borderColor="line">
        {add.error && <Refused error={add.error} />}
        <Flex gap="4" wrap="wrap" align="end">
          <Field.Root w="160px" invalid={!!formState.errors.name}>
            <Field.Label>
              <Trans>Name</Trans>
            </Field.Label>
            <Input {...register('name', { required: true })} />
          </Field.Root>
          <Field.Root w="170px">
            <Field.Label>
              <Trans>Role</Trans>
            </Field.Label>
            <Pick {...register('role')}>
              {narrower[role].map((r) => (
                <option key={r}>{r}</option>
              ))}
            </Pick>
          </Field.Root>
          <Field.Root w="170px">
            <Field.Label>
              <Trans>Last day</Trans>
            </Field.Label>
            <Input type="date" {...register('ends')} />
          </Field.Root>
          <Field.Root w="220px">
            <Field.Label>
              <Trans>Only from</Trans>
            </Field.Label>
            <Input placeholder="192.0.2.0/24" fontFamily="mono" {...register('from')} />
          </Field.Root>
          <MainButton type="submit" loading={add.isPending}>
            <Trans>Make it</Trans>
          </MainButton>
          <QuietButton onClick={() => onDone()}>
            <Trans>Leave it</Trans>
          </QuietButton>
        </Flex>
      </Stack>
    </form>
  );
}
