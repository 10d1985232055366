import { Checkbox, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { useDeferredValue, useState } from 'react';
import { Link, useSearchParams } from 'react-router';
import { locales } from '#texts';
import { api, type Change, type Roster, type RosterRead, taken, type User, useMe } from '../api/client';
import { Bulk } from '../parts/bulk';
import { lastDay } from '../parts/day';
import { people as howMany, Previewed } from '../parts/effect';
import { Holdings } from '../parts/holdings';
import { Labels } from '../parts/labels';
import { AddPerson } from '../parts/new-person';
import { MainButton, PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { sayRefused } from '../parts/toaster';

const page = 200;
const wide = { hideBelow: 'md', whiteSpace: 'normal' } as const;

/** Where the next page of a list begins, as its Link header says (RFC 8288); undefined where there is none. */
function nextOf(response: Response) {
  const next = /<([^>]+)>; rel="next"/.exec(response.headers.get('Link') ?? '');
  return next?.[1] ? (new URL(next[1], location.href).searchParams.get('after') ?? undefined) : undefined;
}

function usePeople(match: string, label: string | null) {
  return useInfiniteQuery({
    queryKey: ['people', match, label],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) => {
      const query = {
        sort: 'name',
        limit: page,
        ...(match && { match }),
        ...(label && { label: [label] }),
        ...(pageParam && { after: pageParam }),
      };
      const answer = api.GET('/api/v1/users', { params: { query } });
      return { users: (await taken<User[]>(answer)) ?? [], next: nextOf((await answer).response) };
    },
    getNextPageParam: (last) => last.next,
  });
}

function stateOf(u: User) {
  if (u.left) return t`left`;
  if (u.disabled) return t`disabled`;
  if (u.onlyOwns) return t`only owns`;
  if (u.starts && new Date(u.starts) > new Date()) return t`from ${new Date(u.starts).toLocaleDateString(locales())}`;
  if (u.ends) return t`until ${lastDay(u.ends)}`;
  return u.role ?? '';
}

/** Everybody in the records: looked for on the service, a page at a time; and put in by the list. */
export function People() {
  const me = useMe();
  const [params, setParams] = useSearchParams();
  const label = params.get('label');
  const [text, setText] = useState('');
  const people = usePeople(useDeferredValue(text), label);
  const [importing, setImporting] = useState(false);
  const [adding, setAdding] = useState(params.has('add'));
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  const all = useMutation({
    // all that match, and not only those that have been shown
    mutationFn: async () => {
      const query = { ...(text && { match: text }), ...(label && { label: [label] }) };
      return (await taken<User[]>(api.GET('/api/v1/users', { params: { query } }))) ?? [];
    },
    onSuccess: (found) => setChosen(new Set(found.map((u) => u.name))),
    onError: sayRefused,
  });
  const mayChange = me.data?.role === 'administrator' || me.data?.role === 'operator';
  const choose = (name: string, on: boolean) =>
    setChosen((was) => {
      const is = new Set(was);
      if (on) is.add(name);
      else is.delete(name);
      return is;
    });
  const users = people.data?.pages.flatMap((p) => p.users);
  return (
    <>
      <PageHead
        title={t`People`}
        text={label ? t`Those marked ${label}` : t`The people and programs that use the gateway`}
      >
        <HStack>
          <a href="/api/v1/users/export?format=csv">
            <QuietButton as="span">
              <Trans>As a list</Trans>
            </QuietButton>
          </a>
          <Link to="/groups">
            <QuietButton as="span">
              <Trans>Groups and profiles</Trans>
            </QuietButton>
          </Link>
          {mayChange && (
            <QuietButton onClick={() => setImporting(!importing)}>
              <Trans>Put a list in</Trans>
            </QuietButton>
          )}
          {mayChange && !adding && (
            <MainButton onClick={() => setAdding(true)}>
              <Trans>Add a person</Trans>
            </MainButton>
          )}
        </HStack>
      </PageHead>
      {adding && <AddPerson onDone={() => setAdding(false)} />}
      {importing && <Import onDone={() => setImporting(false)} />}
      <HStack mb="4" gap="3" wrap="wrap">
        <Input
          maxW="320px"
          bg="sheet"
          aria-label={t`Look for people`}
          placeholder={t`name, full name or mail`}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        {label && (
          <QuietButton onClick={() => setParams({})}>
            <Trans>Whatever the label</Trans>
          </QuietButton>
        )}
        {mayChange && (
          <QuietButton loading={all.isPending} onClick={() => all.mutate()}>
            {text || label ? t`Choose all of these` : t`Choose all`}
          </QuietButton>
        )}
      </HStack>
      {chosen.size > 0 && <Bulk names={[...chosen]} onDone={() => setChosen(new Set())} />}
      {!users ? (
        <Waiting error={people.error} />
      ) : users.length === 0 ? (
        <Sheet p="8">
          <Text>
            <Trans>Nobody of whom that is so.</Trans>
          </Text>
        </Sheet>
      ) : (
        <Sheet>
          <DataTable
            label={t`People`}
            rows={users}
            rowKey={(u) => u.name}
            onEnd={people.hasNextPage && !people.isFetchingNextPage ? people.fetchNextPage : undefined}
            columns={[
              ...(mayChange
                ? [
                    {
                      head: `-${t`Chosen`}`,
                      cell: (u: User) => (
                        <Checkbox.Root
                          size="sm"
                          checked={chosen.has(u.name)}
                          onCheckedChange={(v) => choose(u.name, v.checked === true)}
                        >
                          <Checkbox.HiddenInput aria-label={t`Choose ${u.name}`} />
                          <Checkbox.Control />
                        </Checkbox.Root>
                      ),
                      is: { w: '10' },
                    },
                  ]
                : []),
              {
                head: t`Name`,
                cell: (u) => (
                  <>
                    <Link to={`/people/${encodeURIComponent(u.name)}`}>
                      <Text as="span" fontWeight="600" textDecoration="underline" textDecorationColor="line">
                        {u.name}
                      </Text>
                    </Link>
                    <Text color="faint" fontSize="sm">
                      {u.fullName}
                    </Text>
                  </>
                ),
              },
              { head: 'uid', cell: (u) => u.uid, is: { textAlign: 'end' }, headIs: { textAlign: 'end' } },
              { head: t`State`, cell: stateOf, is: (u) => ({ color: u.disabled ? 'shut' : undefined }) },
              { head: t`Groups`, cell: (u) => u.groups.join(', '), is: wide, headIs: wide },
              { head: t`Labels`, cell: (u) => <Labels labels={u.labels} list="/people" />, is: wide, headIs: wide },
            ]}
          />
        </Sheet>
      )}
      <Holdings mayChange={me.data?.role === 'administrator'} />
    </>
  );
}

/** The bytes of a file as base64. */
async function base64(file: File) {
  const bytes = new Uint8Array(await file.arrayBuffer());
  let text = '';
  for (let i = 0; i < bytes.length; i += 0x8000) text += String.fromCharCode(...bytes.subarray(i, i + 0x8000));
  return btoa(text);
}

const mostShown = 60;

/** A value that a line gives, as people say it. */
const said = (field: string, value?: string) => (!value ? t`none` : field === 'ends' ? lastDay(value) : value);

/** A list is read, shown line by line, and then put in as one change that is shown before. */
function Import({ onDone }: { onDone: () => void }) {
  const [list, setList] = useState<Roster | null>(null);
  const [asking, setAsking] = useState<Change[] | null>(null);
  const reading = useMutation({
    mutationFn: (body: Roster) => taken<RosterRead>(api.POST('/api/v1/users/import/read', { body })),
  });
  const read = reading.data;
  const skip = list?.skipWrong ?? false;
  const refused = read?.refused ?? 0;
  return (
    <Sheet as="section" aria-label={t`Put a list in`} p="5" mb="6">
      <Stack gap="4">
        <Text color="faint" maxW="75ch">
          <Trans>
            CSV whose first line has the words name, full name, uid, group, groups, mail, starts, ends, label and
            profile, as many as there are and in any order; lines of passwd or group; or LDIF. What a line does not say
            stays as it is.
          </Trans>
        </Text>
        <Flex gap="4" align="center" wrap="wrap">
          <input
            type="file"
            aria-label={t`The list`}
            accept=".csv,.txt,.ldif,.tsv,text/csv"
            onChange={async (e) => {
              const file = e.target.files?.[0];
              if (!file) return;
              const body = { file: await base64(file) };
              setList(body);
              reading.mutate(body);
            }}
          />
          {refused > 0 && list && (
            <Checkbox.Root
              size="sm"
              checked={skip}
              onCheckedChange={(v) => setList({ ...list, skipWrong: v.checked === true })}
            >
              <Checkbox.HiddenInput />
              <Checkbox.Control />
              <Checkbox.Label>
                <Trans>do the rest, and leave out what is refused</Trans>
              </Checkbox.Label>
            </Checkbox.Root>
          )}
        </Flex>
        {reading.error && <Refused error={reading.error} />}
        {read && (
          <>
            <Text fontWeight="600">
              <Trans>
                {read.made} made, {read.changed} changed, {read.same} as they were
                {refused > 0 && t`, ${refused} refused`}
              </Trans>
            </Text>
            <Lines read={read} />
            <HStack>
              <MainButton
                disabled={(refused > 0 && !skip) || read.made + read.changed === 0}
                onClick={() => list && setAsking([{ kind: 'users', act: 'import', with: list }])}
              >
                <Trans>See what it does</Trans>
              </MainButton>
              <QuietButton onClick={onDone}>
                <Trans>Cancel</Trans>
              </QuietButton>
            </HStack>
          </>
        )}
      </Stack>
      <Previewed
        title={t`Put ${howMany((read?.made ?? 0) + (read?.changed ?? 0))} in?`}
        act={t`Put them in`}
        changes={asking}
        done={t`${howMany(read?.made ?? 0)} made, ${read?.changed ?? 0} changed.`}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          onDone();
        }}
      />
    </Sheet>
  );
}

/** What becomes of each line, those that are refused first. */
function Lines({ read }: { read: RosterRead }) {
  const lines = [...read.lines].sort((a, b) => Number(b.act === 'refused') - Number(a.act === 'refused'));
  return (
    <>
      <DataTable
        rows={lines.slice(0, mostShown)}
        rowKey={(l) => `${l.line ?? ''} ${l.name}`}
        maxH="340px"
        columns={[
          { head: t`Line`, cell: (l) => l.line },
          { head: t`Who`, cell: (l) => l.name, is: { fontWeight: '600' } },
          { head: t`Is`, cell: (l) => l.act, is: (l) => ({ color: l.act === 'refused' ? 'shut' : undefined }) },
          {
            head: t`What`,
            cell: (l) =>
              l.why ??
              l.changed
                ?.map((c) => `${c.name} ${said(c.name, c.after)}${c.before ? t`, was ${said(c.name, c.before)}` : ''}`)
                .join('; '),
            is: { whiteSpace: 'normal' },
          },
        ]}
      />
      {lines.length > mostShown && (
        <Text p="2">
          <Trans>and {lines.length - mostShown} more</Trans>
        </Text>
      )}
    </>
  );
}
