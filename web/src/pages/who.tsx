import { Box, Field, Flex, Heading, Input, Stack, Table, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useForm } from 'react-hook-form';
import { Link, useSearchParams } from 'react-router';
import { api, type Levels, levels, taken } from '../api/client';
import { Grid } from '../parts/grid';
import { PathInput, UserInput } from '../parts/inputs';
import { Level } from '../parts/level';
import { Pick } from '../parts/pick';
import { MainButton, PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';

const page = 50;

/** One level where both protocols agree, both where they do not. */
export function Both({ level, smb = true, nfs = true }: { level: Levels; smb?: boolean; nfs?: boolean }) {
  if (level.smb === level.nfs || !nfs) return <Level level={level.smb} />;
  if (!smb) return <Level level={level.nfs} />;
  if (level.nfs === 'nothing') return <Level level={level.smb} more="over SMB" />;
  if (level.smb === 'nothing') return <Level level={level.nfs} more="over NFS" />;
  return <Text as="span">{level.text}</Text>;
}

/** Who can, and what can she: everybody on one path, or every path of one user. */
export function Who() {
  const [params, setParams] = useSearchParams();
  const path = params.get('path') ?? '';
  const user = params.get('user') ?? '';
  const { register, handleSubmit } = useForm({ values: { path, user } });
  return (
    <>
      <PageHead title="Who" text="Everybody who may do something to a path, or everything that one user gets to." />
      <Flex gap="4" mb="6" direction={{ base: 'column', md: 'row' }}>
        <Sheet p="4" flex="1">
          <form onSubmit={handleSubmit((f) => setParams({ path: f.path.trim() }))}>
            <Flex gap="3" align="end">
              <Field.Root flex="1">
                <Field.Label>Who may do what on</Field.Label>
                <PathInput {...register('path')} />
              </Field.Root>
              <MainButton type="submit">List</MainButton>
            </Flex>
          </form>
        </Sheet>
        <Sheet p="4" flex="1">
          <form onSubmit={handleSubmit((f) => setParams({ user: f.user.trim() }))}>
            <Flex gap="3" align="end">
              <Field.Root flex="1">
                <Field.Label>Where does this user get</Field.Label>
                <UserInput {...register('user')} />
              </Field.Root>
              <MainButton type="submit">Show</MainButton>
            </Flex>
          </form>
        </Sheet>
      </Flex>
      {path && <Holders path={path} />}
      {user && <Reach user={user} />}
      {!path && !user && <Text color="faint">Name a path, such as plates, or a user, such as isolde.</Text>}
    </>
  );
}

function Holders({ path }: { path: string }) {
  const [params, setParams] = useSearchParams();
  const level = params.get('level') ?? '';
  const name = params.get('name') ?? '';
  const from = Number(params.get('from') ?? 0);
  const query = {
    path,
    name: name || undefined,
    level: (level || undefined) as 'read' | undefined,
    limit: page,
    offset: from,
  };
  const who = useQuery({
    queryKey: ['who', query],
    placeholderData: (had) => had,
    queryFn: () => taken(api.GET('/api/v1/who', { params: { query } })),
  });
  const set = (change: Record<string, string>) => {
    const next = new URLSearchParams(params);
    for (const [k, v] of Object.entries({ from: '', ...change })) v ? next.set(k, v) : next.delete(k);
    setParams(next, { replace: true });
  };
  if (who.error) return <Refused error={who.error} />;
  if (!who.data) return <Waiting error={null} />;
  const w = who.data;
  return (
    <>
      <Flex justify="space-between" align="end" gap="4" wrap="wrap" mb="3">
        <Heading as="h2" fontSize="lg">
          {w.path}: {w.total === 1 ? '1 person' : `${w.total} people`}
        </Heading>
        <Flex gap="3">
          <Input
            aria-label="Only names that hold"
            placeholder="name"
            size="sm"
            w="36"
            defaultValue={name}
            onChange={(e) => set({ name: e.target.value })}
          />
          <Box w="40">
            <Pick aria-label="At least the level" value={level} onChange={(e) => set({ level: e.target.value })}>
              <option value="">any level</option>
              {levels.map((l) => (
                <option key={l.level} value={l.level}>
                  at least {l.level}
                </option>
              ))}
            </Pick>
          </Box>
        </Flex>
      </Flex>
      <Sheet>
        <Grid head={['User', 'Level', 'Through', '-Why']}>
          {w.holders.map((h) => (
            <Table.Row key={h.user}>
              <Table.Cell>
                <Link to={`/who?user=${encodeURIComponent(h.user)}`}>
                  <Text as="span" fontWeight="600">
                    {h.user}
                  </Text>{' '}
                  <Text as="span" color="faint">
                    {h.name}
                  </Text>
                </Link>
              </Table.Cell>
              <Table.Cell>
                <Both level={h.level} />
              </Table.Cell>
              <Table.Cell color="faint">{h.through}</Table.Cell>
              <Table.Cell textAlign="end">
                <Link to={`/why?user=${encodeURIComponent(h.user)}&path=${encodeURIComponent(w.path)}`}>
                  <Text as="span" color="accent">
                    why
                  </Text>
                </Link>
              </Table.Cell>
            </Table.Row>
          ))}
        </Grid>
        {w.total === 0 && (
          <Text px="4" py="3" color="faint">
            Nobody.
          </Text>
        )}
      </Sheet>
      {w.total > page && (
        <Flex mt="3" gap="3" align="center">
          <QuietButton size="sm" disabled={from === 0} onClick={() => set({ from: String(Math.max(0, from - page)) })}>
            Before
          </QuietButton>
          <Text fontSize="sm" color="faint">
            {from + 1} to {Math.min(from + page, w.total)} of {w.total}
          </Text>
          <QuietButton size="sm" disabled={from + page >= w.total} onClick={() => set({ from: String(from + page) })}>
            After
          </QuietButton>
        </Flex>
      )}
    </>
  );
}

function Reach({ user }: { user: string }) {
  const reach = useQuery({
    queryKey: ['reach', user],
    queryFn: () => taken(api.GET('/api/v1/reach', { params: { query: { user } } })),
  });
  if (reach.error) return <Refused error={reach.error} />;
  if (!reach.data) return <Waiting error={null} />;
  return (
    <>
      <Flex justify="space-between" align="center" mb="3">
        <Heading as="h2" fontSize="lg">
          {reach.data.user} gets to
        </Heading>
        <a href={`/api/v1/reports/person?of=${encodeURIComponent(reach.data.user)}`}>
          <QuietButton as="span" size="sm">
            For paper
          </QuietButton>
        </a>
      </Flex>
      <Sheet>
        {reach.data.spots.length === 0 ? (
          <Text px="4" py="3" color="faint">
            Nothing.
          </Text>
        ) : (
          <Grid head={['Path', 'Level from here on']}>
            {reach.data.spots.map((s) => (
              <Table.Row key={s.path}>
                <Table.Cell fontFamily="mono" fontSize="sm">
                  <Stack as="span" ps={`${1.25 * (s.path.split('/').length - 1)}rem`}>
                    <Link to={`/who?path=${encodeURIComponent(s.path)}`}>{s.path}</Link>
                  </Stack>
                </Table.Cell>
                <Table.Cell>
                  <Both level={s.level} />
                </Table.Cell>
              </Table.Row>
            ))}
          </Grid>
        )}
      </Sheet>
    </>
  );
}
