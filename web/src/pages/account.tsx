import { Box, Field, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
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
import { InUse, stateOf, UseBar } from '../parts/use';
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
      <PageHead title="My page" text={me.user}>
        <HStack wrap="wrap">
          <QuietButton onClick={() => setAsks('password')}>Change your password</QuietButton>
          <QuietButton onClick={() => setAsks('codes')}>
            {me.codes ? 'Set up other one-time codes' : 'Set up one-time codes'}
          </QuietButton>
          {me.codes && <QuietButton onClick={() => setAsks('no codes')}>Remove one-time codes</QuietButton>}
        </HStack>
      </PageHead>
      <Flex gap="6" mb="8" wrap="wrap">
        <Fact name="Role">{me.role}</Fact>
        <Fact name="One-time codes">
          {me.codes ? `asked for; ${me.recoveryLeft ?? 0} recovery codes are left` : 'none'}
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
        <SignIns />
        <Tokens role={me.role} />
      </Stack>
    </>
  );
}

/** What somebody may do, as people say it. */
const plainly: Record<string, string> = {
  pass: 'You may go through it, and see nothing.',
  read: 'You may look and read.',
  add: 'You may put new things in, and change nothing.',
  'read and add': 'You may read, and put new things in.',
  change: 'You may read, add, alter and delete.',
  control: 'You may do all of that, and decide who else may.',
};

/** The folders that one gets into, each with how to open it on the machine that one has. */
function OwnFolders() {
  const own = useOwn();
  const [open, setOpen] = useState<string | null>(null);
  return (
    <Part title="Your folders">
      {!own.data ? (
        <Waiting error={own.error} rows={2} />
      ) : own.data.folders.length === 0 ? (
        <Text px="5" py="3" color="faint">
          None yet: ask whoever looks after the gateway.
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
                    {f.at !== f.name && ` You get in at ${f.at}.`}
                  </Text>
                </Box>
                {f.ways.length > 0 && (
                  <QuietButton
                    size="sm"
                    aria-expanded={open === f.name}
                    onClick={() => setOpen(open === f.name ? null : f.name)}
                  >
                    How to open it
                    <Text srOnly>: {f.name}</Text>
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
    <Part title="What you have stored">
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
        {use.standings.length === 0 && <Text color="faint">No limit bears on you.</Text>}
      </Stack>
    </Part>
  );
}

function Decides({ me }: { me: Me }) {
  if (!me.decides.length && !me.owns.length) return null;
  return (
    <Part title="You decide">
      <Stack px="5" py="3" gap="2">
        {me.decides.map((name) => (
          <Link key={name} to={`/own/folders/${encodeURIComponent(name)}`}>
            <Text textDecoration="underline">who gets into {name}</Text>
          </Link>
        ))}
        {me.owns.map((name) => (
          <Link key={name} to={`/own/groups/${encodeURIComponent(name)}`}>
            <Text textDecoration="underline">who is in the group {name}</Text>
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
    <Part title="What you reach, path by path">
      {!reach.data ? (
        <Waiting error={reach.error} rows={2} />
      ) : (
        <Reach user={user} spots={reach.data.spots} empty="Nowhere yet." />
      )}
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
    <Part title="Where you are signed in">
      {!all.data ? (
        <Waiting error={all.error} rows={2} />
      ) : (
        <DataTable
          rows={all.data}
          rowKey={(s) => s.id}
          columns={[
            { head: 'From', cell: (s) => s.address, is: { fontFamily: 'mono' } },
            {
              head: 'As',
              cell: (s) => (s.this ? 'this browser' : s.client),
              is: (s) => ({ maxW: '280px', truncate: true, title: s.client }),
            },
            { head: 'Since', cell: (s) => <Moment at={s.begun} /> },
            { head: 'Last used', cell: (s) => <Moment at={s.used} /> },
            {
              head: '-End',
              cell: (s) =>
                !s.this && (
                  <QuietButton size="sm" aria-label={`End the sign-in from ${s.address}`} onClick={() => end.mutate(s)}>
                    End
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
    mutationFn: (t: Token) => taken(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id: t.id } } })),
    onSuccess: (_, t) => {
      say(`The token ${t.name} is taken back.`);
      client.invalidateQueries({ queryKey: ['tokens'] });
    },
    onError: sayRefused,
  });
  return (
    <Part
      title="Tokens of programs"
      act={
        !adding && (
          <QuietButton size="sm" bg="sheet" onClick={() => setAdding(true)}>
            Make a token
          </QuietButton>
        )
      }
    >
      {adding && (
        <NewToken
          role={role}
          onDone={(t) => {
            setAdding(false);
            setMade(t);
          }}
        />
      )}
      {made?.text && (
        <Box px="5" py="4" borderBottomWidth="1px" borderColor="line">
          <Text mb="1">
            The token {made.name}. It is shown this once; a program sends it as a bearer token (RFC 6750).
          </Text>
          <Text fontFamily="mono" fontSize="sm" wordBreak="break-all" aria-label="The token">
            {made.text}
          </Text>
        </Box>
      )}
      {!all.data ? (
        <Waiting error={all.error} rows={2} />
      ) : all.data.length === 0 ? (
        <Text px="5" py="3" color="faint">
          No program uses the API on your behalf.
        </Text>
      ) : (
        <DataTable
          rows={all.data}
          rowKey={(t) => t.id}
          columns={[
            { head: 'Name', cell: (t) => t.name, is: { fontWeight: '600' } },
            { head: 'Role', cell: (t) => t.role },
            {
              head: 'Last day',
              cell: (t) => (t.ends ? lastDay(t.ends) : 'never ends'),
              is: (t) => ({ color: t.ended ? 'shut' : undefined }),
            },
            { head: 'Last used', cell: (t) => (t.used ? `$<Moment at={t.used} /> from ${t.address}` : 'never') },
            { head: 'From', cell: (t) => t.from.join(', ') || 'anywhere' },
            {
              head: '-Remove',
              cell: (t) => (
                <QuietButton size="sm" aria-label={`Take back the token ${t.name}`} onClick={() => remove.mutate(t)}>
                  Take back
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
    onSuccess: (t) => {
      client.invalidateQueries({ queryKey: ['tokens'] });
      onDone(t);
    },
  });
  return (
    <form onSubmit={handleSubmit((f) => add.mutate(f))} noValidate>
      <Stack px="5" py="4" gap="4" borderBottomWidth="1px" borderColor="line">
        {add.error && <Refused error={add.error} />}
        <Flex gap="4" wrap="wrap" align="end">
          <Field.Root w="160px" invalid={!!formState.errors.name}>
            <Field.Label>Name</Field.Label>
            <Input {...register('name', { required: true })} />
          </Field.Root>
          <Field.Root w="170px">
            <Field.Label>Role</Field.Label>
            <Pick {...register('role')}>
              {narrower[role].map((r) => (
                <option key={r}>{r}</option>
              ))}
            </Pick>
          </Field.Root>
          <Field.Root w="170px">
            <Field.Label>Last day</Field.Label>
            <Input type="date" {...register('ends')} />
          </Field.Root>
          <Field.Root w="220px">
            <Field.Label>Only from</Field.Label>
            <Input placeholder="192.0.2.0/24" fontFamily="mono" {...register('from')} />
          </Field.Root>
          <MainButton type="submit" loading={add.isPending}>
            Make it
          </MainButton>
          <QuietButton onClick={() => onDone()}>Leave it</QuietButton>
        </Flex>
      </Stack>
    </form>
  );
}
