import { Box, Field, Flex, HStack, Input, Stack, Table, Text } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import { api, client, type Me, type SignInNow, type Token, taken, useMe } from '../api/client';
import { RemoveCodes, SetUpCodes } from '../parts/codes';
import { afterLastDay, lastDay, when } from '../parts/day';
import { Grid } from '../parts/grid';
import { OwnPassword } from '../parts/own-password';
import { Pick } from '../parts/pick';
import { Reach } from '../parts/reach';
import { Fact, MainButton, PageHead, Part, QuietButton, Refused, Waiting } from '../parts/sheet';
import { say, sayRefused } from '../parts/toaster';
import { listed } from '../parts/words';

const useSignIns = () =>
  useQuery({ queryKey: ['sign-ins'], queryFn: () => taken(api.GET('/api/v1/sign-ins')), refetchInterval: 15_000 });
const useTokens = () => useQuery({ queryKey: ['tokens'], queryFn: () => taken(api.GET('/api/v1/tokens')) });

/** What is one's own: how one signs in, where one is signed in, what programs do on one's behalf, and where one gets. */
export function Account() {
  const me = useMe().data;
  const [asks, setAsks] = useState<'password' | 'codes' | 'no codes'>();
  if (!me) return null;
  const close = () => setAsks(undefined);
  return (
    <>
      <PageHead title="My account" text={me.user}>
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
        <Decides me={me} />
        <Reaches user={me.user} />
        <SignIns />
        <Tokens role={me.role} />
      </Stack>
    </>
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
    <Part title="What you reach">
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
        <Grid head={['From', 'As', 'Since', 'Last used', '-End']}>
          {all.data.map((s) => (
            <Table.Row key={s.id}>
              <Table.Cell fontFamily="mono">{s.address}</Table.Cell>
              <Table.Cell maxW="280px" truncate title={s.client}>
                {s.this ? 'this browser' : s.client}
              </Table.Cell>
              <Table.Cell>{when(s.begun)}</Table.Cell>
              <Table.Cell>{when(s.used)}</Table.Cell>
              <Table.Cell textAlign="end">
                {!s.this && (
                  <QuietButton size="sm" aria-label={`End the sign-in from ${s.address}`} onClick={() => end.mutate(s)}>
                    End
                  </QuietButton>
                )}
              </Table.Cell>
            </Table.Row>
          ))}
        </Grid>
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
        <Grid head={['Name', 'Role', 'Last day', 'Last used', 'From', '-Remove']}>
          {all.data.map((t) => (
            <Table.Row key={t.id}>
              <Table.Cell fontWeight="600">{t.name}</Table.Cell>
              <Table.Cell>{t.role}</Table.Cell>
              <Table.Cell color={t.ended ? 'shut' : undefined}>{t.ends ? lastDay(t.ends) : 'never ends'}</Table.Cell>
              <Table.Cell>{t.used ? `${when(t.used)} from ${t.address}` : 'never'}</Table.Cell>
              <Table.Cell>{t.from.join(', ') || 'anywhere'}</Table.Cell>
              <Table.Cell textAlign="end">
                <QuietButton size="sm" aria-label={`Take back the token ${t.name}`} onClick={() => remove.mutate(t)}>
                  Take back
                </QuietButton>
              </Table.Cell>
            </Table.Row>
          ))}
        </Grid>
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
