import { Box, Flex, HStack, Input, SimpleGrid, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link, useNavigate, useParams } from 'react-router';
import { locales } from '#texts';
import { change } from '../api/change';
import { api, type Change, type Person as Known, taken, useMe, useProfiles, useUses } from '../api/client';
import { Ask } from '../parts/confirm';
import { afterLastDay, lastDay, when } from '../parts/day';
import { Previewed, useAsk } from '../parts/effect';
import { Entry, placeRefusal } from '../parts/form';
import { AlterLabels } from '../parts/labels';
import { Leaving } from '../parts/leaving';
import { Moment } from '../parts/moment';
import { Pick } from '../parts/pick';
import { Reach } from '../parts/reach';
import { Fact, MainButton, PageHead, Part, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { InUse, stateOf, UseBar } from '../parts/use';
import { UseLine } from '../parts/use-line';

const usePerson = (name: string) =>
  useQuery({
    queryKey: ['users', name, 'person'],
    queryFn: () => taken(api.GET('/api/v1/people/{name}', { params: { path: { name } } })),
  });

/** One person, in one place: who they are, where they get and why, what they use, how they come, what they own and where they are named. */
export function Person() {
  const { name = '' } = useParams();
  const me = useMe().data;
  const person = usePerson(name);
  const uses = useUses('user', name);
  const [asks, setAsks] = useState<'leave' | 'change' | 'password'>();
  const navigate = useNavigate();
  const [ask, dialog] = useAsk();
  if (!person.data) return <Waiting error={person.error} />;
  const u = person.data;
  const use = uses.data?.uses.find((one) => one.name === u.name);
  const may = [u.smb && 'SMB', u.nfs && 'NFS', (u.console || u.role) && t`the console`].filter(Boolean).join(', ');
  const looksAfter = me?.role === 'administrator' || (me?.role === 'operator' && !u.role);
  const close = () => setAsks(undefined);
  return (
    <>
      <PageHead title={u.fullName || u.name} text={u.service ? t`${u.name}, an account of a program` : u.name}>
        <HStack wrap="wrap">
          <Link to={`/why?user=${encodeURIComponent(u.name)}`}>
            <QuietButton as="span">
              <Trans>Ask why</Trans>
            </QuietButton>
          </Link>
          {looksAfter && !u.left && (
            <>
              <QuietButton onClick={() => setAsks('change')}>
                <Trans>Change</Trans>
              </QuietButton>
              {!u.onlyOwns && (
                <QuietButton onClick={() => setAsks('password')}>
                  <Trans>Another password</Trans>
                </QuietButton>
              )}
            </>
          )}
          {me?.role === 'administrator' && u.codes && (
            <QuietButton
              onClick={() =>
                ask({
                  title: t`Take away the one-time codes of ${u.name}?`,
                  act: t`Take them away`,
                  done: t`${u.name} signs in without codes, and can set up new ones.`,
                  changes: [change('codes', 'remove', { of: { name: u.name } })],
                })
              }
            >
              <Trans>Without codes</Trans>
            </QuietButton>
          )}
          {me?.role === 'administrator' && (u.left || u.leaving) && (
            <QuietButton
              onClick={() =>
                ask({
                  title: u.left ? t`Does ${u.name} come back?` : t`Does ${u.name} stay?`,
                  act: u.left ? t`They come back` : t`They stay`,
                  done: `${u.name} ${u.left ? t`is back` : t`stays`}.`,
                  changes: [change('user', 'stay', { of: { name: u.name } })],
                })
              }
            >
              {u.left ? t`Comes back` : t`Stays`}
            </QuietButton>
          )}
          {me?.role === 'administrator' && !u.left && (
            <QuietButton color="shut" onClick={() => setAsks('leave')}>
              <Trans>Leaves</Trans>
            </QuietButton>
          )}
          {me?.role === 'administrator' && u.left && (
            <QuietButton
              color="shut"
              onClick={() =>
                ask({
                  title: t`Remove the record of ${u.name}?`,
                  act: t`Remove it`,
                  done: t`${u.name} is no record any more.`,
                  changes: [change('user', 'remove', { of: { name: u.name } })],
                  after: () => navigate('/people'),
                })
              }
            >
              <Trans>Remove the record</Trans>
            </QuietButton>
          )}
        </HStack>
      </PageHead>
      {dialog}
      {asks === 'leave' && <Leaving user={u} onClose={close} />}
      {asks === 'change' && <ChangeUser user={u} onClose={close} />}
      {asks === 'password' && <NewPassword name={u.name} onClose={close} />}
      <Flex gap="6" mb="8" wrap="wrap">
        <Fact name="uid">{u.uid}</Fact>
        <Fact name={t`Groups`}>
          {u.direct.join(', ') || t`none`}
          {u.through.map((g) => (
            <Text key={g.group} color="faint" fontSize="sm">
              <Trans>
                {g.group}, through {g.chain.slice(0, -1).join(', in ')}
              </Trans>
            </Text>
          ))}
        </Fact>
        <Fact name={t`May use`}>{may || t`nothing: nobody signs in`}</Fact>
        {u.role && <Fact name={t`Role`}>{u.role}</Fact>}
        {u.profile && <Fact name={t`Profile`}>{u.profile}</Fact>}
        {u.description && <Fact name={t`Description`}>{u.description}</Fact>}
        <Fact name={t`Mail`}>{u.mail || t`no address: they are not told that a limit is close`}</Fact>
        <Fact name={t`Password`}>
          {u.password.set ? t`set` : t`none`}
          {u.password.mustChange && t`, to be changed first`}
          {u.codes && t`, with one-time codes`}
        </Fact>
        <Fact name={t`Labels`}>
          <AlterLabels
            labels={u.labels}
            list="/people"
            mayChange={looksAfter}
            change={(labels) => ({ kind: 'user', act: 'change', of: { name: u.name }, with: { labels } })}
          />
        </Fact>
        {u.left ? (
          <Fact name={t`Left`}>
            <Moment at={u.left} />
          </Fact>
        ) : (
          u.disabled && (
            <Fact name={t`State`}>
              <Trans>disabled</Trans>
            </Fact>
          )
        )}
        {u.leaving && (
          <Fact name={t`Leaves`}>
            <Moment at={u.leaving.on} />
            {u.leaving.to && t`, succeeded by ${u.leaving.to}`}
          </Fact>
        )}
        {u.starts && <Fact name={t`First day`}>{new Date(u.starts).toLocaleDateString(locales())}</Fact>}
        {u.ends && !u.left && <Fact name={t`Last day`}>{lastDay(u.ends)}</Fact>}
      </Flex>
      <Part title={t`Where they get`} mb="6">
        <Reach user={u.name} spots={u.reach} empty={t`Nowhere.`} maxH="340px" />
      </Part>
      <Sheet as="section" aria-label={t`In use`} p="5">
        <Text fontWeight="700" fontSize="lg" mb="3">
          <Trans>In use</Trans>
        </Text>
        {!uses.data ? (
          <Waiting error={uses.error} rows={2} />
        ) : !use ? (
          <Text color="faint">
            <Trans>Nothing is counted for them, and no limit bears on them.</Trans>
          </Text>
        ) : (
          <Stack gap="5">
            <InUse use={use} />
            {use.standings.length === 0 && (
              <Text color="faint">
                <Trans>No limit bears on them.</Trans>
              </Text>
            )}
            {use.standings.map((s) => (
              <Box key={s.limitId} maxW="560px">
                <Text fontWeight="600" fontSize="sm" mb="1">
                  <Trans>Limit of {s.subject}</Trans>
                </Text>
                <UseBar standing={s} />
                {stateOf(s).text && (
                  <Text fontSize="sm" fontWeight="600" color={stateOf(s).bad ? 'shut' : 'accent'}>
                    {stateOf(s).text}
                  </Text>
                )}
              </Box>
            ))}
            <UseLine by="user" name={u.name} days={14} />
          </Stack>
        )}
      </Sheet>
      <SimpleGrid columns={{ base: 1, md: 2 }} gap="6" mt="6">
        <Listed title={t`Last came in`} empty={t`They have not come yet.`}>
          {u.seen.map((s) => t`over ${s.via}, ${when(s.at)}, from ${s.from}`)}
        </Listed>
        <Listed title={t`Is signed in`} empty={t`Nowhere.`}>
          {u.signIns.map((s) => t`from ${s.address} since ${when(s.begun)}`)}
        </Listed>
        <Listed title={t`Owns`} empty={t`No folder and no group.`}>
          {u.owns}
        </Listed>
        <Listed title={t`Is named by`} empty={t`No entry and no setting.`}>
          {u.named.map((n) => n.where)}
        </Listed>
        <Listed title={t`Numbers elsewhere`} empty={t`No other machine has been compared.`}>
          {u.hosts.map(
            (h) => `${h.host}: ${h.uid}${h.map ? t`, by number map ${h.map}` : h.same ? '' : t`, and ${u.uid} here`}`,
          )}
        </Listed>
        <Listed title={t`Tokens`} empty={t`None.`}>
          {u.tokens.map((t) => `${t.name} (${t.role})`)}
        </Listed>
      </SimpleGrid>
      <Lately user={u} />
    </>
  );
}

function Listed({ title, empty, children }: { title: string; empty: string; children: string[] }) {
  return (
    <Sheet as="section" aria-label={title} p="5">
      <Text as="h2" fontWeight="700" mb="2">
        {title}
      </Text>
      {children.length === 0 ? (
        <Text color="faint">{empty}</Text>
      ) : (
        children.map((line) => <Text key={line}>{line}</Text>)
      )}
    </Sheet>
  );
}

function Lately({ user }: { user: Known }) {
  if (user.events.length === 0) return null;
  return (
    <Part title={t`Lately`} mt="6">
      <DataTable
        rows={user.events}
        rowKey={(e) => e.id}
        columns={[
          { head: t`When`, cell: (e) => <Moment at={e.since} /> },
          {
            head: t`What`,
            cell: (e) => (
              <>
                {e.kind}
                {e.count > 1 && t`, ${e.count} times`}
              </>
            ),
            is: (e) => ({ color: /refused/.test(e.kind) ? 'shut' : undefined }),
          },
          { head: t`Where`, cell: (e) => e.path, is: { whiteSpace: 'normal' } },
          {
            head: t`From`,
            cell: (e) => (
              <>
                {e.via}, {e.from}
              </>
            ),
          },
        ]}
      />
    </Part>
  );
}

type Form = {
  fullName: string;
  description: string;
  mail: string;
  starts: string;
  ends: string;
  profile: string;
  disabled: string;
};

const day = (at?: string, last = false) =>
  at ? new Date(new Date(at).getTime() - (last ? 1 : 0)).toLocaleDateString('sv') : '';

/** What is to be otherwise of a user; only that is sent. */
function ChangeUser({ user, onClose }: { user: Known; onClose: () => void }) {
  const profiles = useProfiles();
  const was: Form = {
    fullName: user.fullName,
    description: user.description ?? '',
    mail: user.mail ?? '',
    starts: day(user.starts),
    ends: day(user.ends, true),
    profile: user.profile ?? '',
    disabled: user.disabled ? t`disabled` : t`enabled`,
  };
  const form = useForm<Form>({ defaultValues: was });
  const { register, handleSubmit } = form;
  const wrong = form.formState.errors;
  const [asking, setAsking] = useState<Change[] | null>(null);
  const submit = (f: Form) => {
    const to: Record<string, unknown> = {};
    for (const field of ['fullName', 'description', 'mail', 'profile'] as const)
      if (f[field] !== was[field]) to[field] = f[field];
    if (f.starts !== was.starts)
      to.starts = f.starts ? new Date(`${f.starts}T00:00`).toISOString() : new Date(0).toISOString();
    if (f.ends !== was.ends) Object.assign(to, f.ends ? { ends: afterLastDay(f.ends) } : { endless: true });
    if (f.disabled !== was.disabled) to.disabled = f.disabled === 'disabled';
    if (Object.keys(to).length > 0) setAsking([{ kind: 'user', act: 'change', of: { name: user.name }, with: to }]);
    else onClose();
  };
  if (asking)
    return (
      <Previewed
        title={t`Change ${user.name}?`}
        act={t`Change it`}
        changes={asking}
        done={t`${user.name} is changed.`}
        onRefused={(e) => placeRefusal(e, form)}
        onClose={() => setAsking(null)}
        onDone={onClose}
      />
    );
  return (
    <Ask
      title={t`Change ${user.name}`}
      open
      onClose={onClose}
      act={
        <MainButton type="submit" form="change-user">
          <Trans>See what it does</Trans>
        </MainButton>
      }
    >
      <form id="change-user" onSubmit={handleSubmit(submit)}>
        <Stack gap="4">
          <Entry label={t`Full name`} error={wrong.fullName}>
            <Input {...register('fullName')} />
          </Entry>
          <Entry label={t`Description`} error={wrong.description}>
            <Input {...register('description')} />
          </Entry>
          <Entry label={t`Mail`} error={wrong.mail}>
            <Input type="email" {...register('mail')} />
          </Entry>
          <HStack align="start">
            <Entry label={t`First day`} error={wrong.starts}>
              <Input type="date" {...register('starts')} />
            </Entry>
            <Entry label={t`Last day`} error={wrong.ends}>
              <Input type="date" {...register('ends')} />
            </Entry>
          </HStack>
          <HStack align="start">
            <Entry label={t`Profile`} error={wrong.profile}>
              <Pick {...register('profile')}>
                <option value="">
                  <Trans>none</Trans>
                </option>
                {(profiles.data ?? []).map((p) => (
                  <option key={p.name}>{p.name}</option>
                ))}
              </Pick>
            </Entry>
            <Entry label={t`State`} error={wrong.disabled}>
              <Pick {...register('disabled')}>
                <option>
                  <Trans>enabled</Trans>
                </option>
                <option>
                  <Trans>disabled</Trans>
                </option>
              </Pick>
            </Entry>
          </HStack>
        </Stack>
      </form>
    </Ask>
  );
}

/** A password that is made up, shown once. */
function NewPassword({ name, onClose }: { name: string; onClose: () => void }) {
  const reset = useMutation({
    mutationFn: () => taken(api.POST('/api/v1/users/{name}/password', { params: { path: { name } } })),
  });
  return (
    <Ask
      title={t`Another password for ${name}`}
      open
      onClose={onClose}
      act={
        reset.data ? (
          <MainButton onClick={onClose}>
            <Trans>I have told them</Trans>
          </MainButton>
        ) : (
          <MainButton loading={reset.isPending} onClick={() => reset.mutate()}>
            <Trans>Make one up</Trans>
          </MainButton>
        )
      }
    >
      <Stack gap="3">
        {reset.error && <Refused error={reset.error} />}
        {reset.data ? (
          <>
            <Text>
              <Trans>It is shown this once, and opens nothing until they have changed it.</Trans>
            </Text>
            <Text fontFamily="mono" fontSize="lg" aria-label={t`The password`}>
              {reset.data.password}
            </Text>
          </>
        ) : (
          <Text>
            <Trans>The one that they have opens nothing any more, and what they are signed in with ends.</Trans>
          </Text>
        )}
      </Stack>
    </Ask>
  );
}
