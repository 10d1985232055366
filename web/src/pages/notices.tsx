import { Alert, Box, Field, Flex, Grid, HStack, Input, Stack, Tabs, Text, Textarea } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { useForm } from 'react-hook-form';
import { useSearchParams } from 'react-router';
import {
  api,
  client,
  type Hook,
  type Letter,
  type Notice,
  type NoticeChanges,
  type NoticeSettings,
  taken,
  useHooks,
  useLetters,
  useMe,
  useNoticeSettings,
  useNotices,
  useUnsent,
} from '../api/client';
import { Command } from '../parts/command';
import { Confirm } from '../parts/confirm';
import { Moment } from '../parts/moment';
import { Pick } from '../parts/pick';
import { MainButton, PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { Tick } from '../parts/tick';
import { say, sayRefused } from '../parts/toaster';

const refresh = () => client.invalidateQueries({ queryKey: ['notices'] });
const tabs = ['told', 'when', 'letters'] as const;

/** Who was told that a limit is close, and how that is done. */
export function Notices() {
  const [params, setParams] = useSearchParams();
  const tab = tabs.find((told) => told === params.get('show')) ?? 'told';
  const me = useMe();
  const mayChange = me.data?.role === 'administrator';
  return (
    <>
      <PageHead
        title={t`Notices`}
        text={t`People hear in time that a limit is close: once at each mark, by mail, and by webhook.`}
      />
      <Tabs.Root
        value={tab}
        onValueChange={(e) => setParams(e.value === 'told' ? {} : { show: e.value }, { replace: true })}
        lazyMount
        unmountOnExit
        css={{ '--indicator-color': 'colors.accent' }}
      >
        <Tabs.List borderColor="line" mb="4" overflowX="auto" overflowY="hidden">
          <Tabs.Trigger value="told">
            <Trans>What was told</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="when">
            <Trans>When and how</Trans>
          </Tabs.Trigger>
          <Tabs.Trigger value="letters">
            <Trans>Letters</Trans>
          </Tabs.Trigger>
        </Tabs.List>
        <Tabs.Content value="told" p="0">
          <Told />
        </Tabs.Content>
        <Tabs.Content value="when" p="0">
          <Settings mayChange={mayChange} />
        </Tabs.Content>
        <Tabs.Content value="letters" p="0">
          <Letters mayChange={mayChange} />
        </Tabs.Content>
      </Tabs.Root>
    </>
  );
}

const grave = (n: Notice) => n.percent === 100 || n.kind === 'grace ending';
const badge = (n: Notice) =>
  n.percent ? `${n.percent} %` : n.kind === 'grace begun' ? t`soft limit passed` : t`last day of the grace`;

function Told() {
  const notices = useNotices();
  const unsent = useUnsent();
  const settings = useNoticeSettings();
  const hooks = useHooks();
  const mute = settings.data?.mail.server === '' && !hooks.data?.some((h) => h.on);
  if (!notices.data) return <Waiting error={notices.error} />;
  return (
    <Stack gap="5">
      {unsent.data && unsent.data.length > 0 && (
        <Alert.Root status="warning" bg="shut.soft" color="ink">
          <Alert.Indicator color="shut" />
          <Alert.Content>
            <Alert.Title>
              <Trans>Not everybody could be told</Trans>
            </Alert.Title>
            {unsent.data.slice(0, 5).map((u) => (
              <Text key={`${u.to} ${u.made}`} fontSize="sm">
                <Trans>
                  {u.to}, from <Moment at={u.made} />: {u.problem}
                </Trans>
                {u.again ? (
                  <>
                    {' '}
                    <Trans>
                      – tried again <Moment at={u.again} />
                    </Trans>
                  </>
                ) : (
                  t` – not tried again`
                )}
              </Text>
            ))}
            {unsent.data.length > 5 && (
              <Text fontSize="sm">
                <Trans>And {unsent.data.length - 5} more.</Trans>
              </Text>
            )}
          </Alert.Content>
        </Alert.Root>
      )}
      {mute && (
        <Text color="faint">
          <Trans>
            Nobody is sent anything yet: there is no mail server and no webhook. It is written down here, and in the
            journal.
          </Trans>
        </Text>
      )}
      {notices.data.length === 0 ? (
        <Text color="faint">
          <Trans>Nobody has come close to a limit yet.</Trans>
        </Text>
      ) : (
        <Sheet>
          {notices.data.map((n) => (
            <Grid
              key={n.id}
              templateColumns={{ base: '1fr', md: '170px 150px 1fr' }}
              gap={{ base: '1', md: '5' }}
              px="5"
              py="3.5"
              borderBottomWidth="1px"
              borderColor="line"
              _last={{ borderBottomWidth: 0 }}
            >
              <Text color="faint" fontSize="sm" pt="0.5">
                <Moment at={n.at} />
              </Text>
              <Text fontWeight="600" color={grave(n) ? 'shut' : 'accent'}>
                {badge(n)}
              </Text>
              <Text wordBreak="break-word">{n.says}</Text>
            </Grid>
          ))}
        </Sheet>
      )}
    </Stack>
  );
}

function Section({ title, text, children }: { title: string; text: string; children: ReactNode }) {
  return (
    <Sheet as="section" aria-label={title} p="5">
      <Text fontWeight="700" fontSize="lg">
        {title}
      </Text>
      <Text color="faint" fontSize="sm" mb="4">
        {text}
      </Text>
      {children}
    </Sheet>
  );
}

function Settings({ mayChange }: { mayChange: boolean }) {
  const settings = useNoticeSettings();
  if (!settings.data) return <Waiting error={settings.error} />;
  return (
    <Grid templateColumns={{ base: '1fr', xl: '1fr 1fr' }} gap="5" alignItems="start">
      <Mail settings={settings.data} mayChange={mayChange} />
      <Stack gap="5">
        <Marks
          key={JSON.stringify([settings.data.percent, settings.data.grace])}
          settings={settings.data}
          mayChange={mayChange}
        />
        <Hooks mayChange={mayChange} />
      </Stack>
    </Grid>
  );
}

const useSave = () =>
  useMutation({
    mutationFn: patch,
    onSuccess: async () => {
      await refresh();
      say(t`Saved.`);
    },
  });

const patch = (body: NoticeChanges) => taken(api.PATCH('/api/v1/notices/settings', { body }));

function Marks({ settings, mayChange }: { settings: NoticeSettings; mayChange: boolean }) {
  const { register, control, handleSubmit } = useForm({
    defaultValues: { percent: settings.percent.join(', '), grace: settings.grace },
  });
  const save = useSave();
  return (
    <Section
      title={t`When`}
      text={t`Each mark is told once, until use has gone well below it; where several are passed at once, the highest is.`}
    >
      <form
        onSubmit={handleSubmit((f) =>
          save.mutate({
            percent: f.percent
              .split(/[\s,%]+/)
              .filter(Boolean)
              .map(Number),
            grace: f.grace,
          }),
        )}
      >
        <Stack gap="4">
          {save.error && <Refused error={save.error} />}
          <Field.Root disabled={!mayChange}>
            <Field.Label>
              <Trans>At these parts of a limit, in per cent</Trans>
            </Field.Label>
            <Input autoComplete="off" placeholder={t`none`} {...register('percent', { pattern: /^[\d\s,%]*$/ })} />
          </Field.Root>
          <Tick
            control={control}
            name="grace"
            text={t`When a grace begins, and on its last day`}
            disabled={!mayChange}
          />
          {mayChange && (
            <Box>
              <MainButton type="submit" size="sm" loading={save.isPending}>
                <Trans>Save</Trans>
              </MainButton>
            </Box>
          )}
        </Stack>
      </form>
    </Section>
  );
}

/** The form begins anew when others change the settings; what a test said stays. */
function Mail({ settings, mayChange }: { settings: NoticeSettings; mayChange: boolean }) {
  const [to, setTo] = useState('');
  const test = useMutation({
    mutationFn: () => taken(api.POST('/api/v1/notices/test', { body: to ? { address: to } : {} })),
    onSuccess: (told) => say(t`The mail server took it, to ${told.to}.`),
  });
  return (
    <Section
      title={t`Mail`}
      text={t`To the person whom a limit is about, to a folder’s owner, and to administrators, if they have an address.`}
    >
      <MailForm key={JSON.stringify(settings.mail)} settings={settings} mayChange={mayChange} />
      {mayChange && (
        <Box borderTopWidth="1px" borderColor="line" mt="5" pt="4">
          {test.error && (
            <Box mb="3">
              <Refused error={test.error} />
            </Box>
          )}
          <HStack gap="3" align="end">
            <Field.Root>
              <Field.Label>
                <Trans>Try it: send one to</Trans>
              </Field.Label>
              <Input
                size="sm"
                autoComplete="off"
                placeholder={t`your own address`}
                value={to}
                onChange={(e) => setTo(e.target.value)}
              />
            </Field.Root>
            <QuietButton size="sm" loading={test.isPending} onClick={() => test.mutate()}>
              <Trans>Send a test</Trans>
            </QuietButton>
          </HStack>
        </Box>
      )}
    </Section>
  );
}

function MailForm({ settings, mayChange }: { settings: NoticeSettings; mayChange: boolean }) {
  const m = settings.mail;
  const before = {
    server: m.server,
    security: m.security ?? 'starttls',
    sender: m.sender ?? '',
    user: m.user ?? '',
    trust: m.trust ?? '',
  };
  const { register, handleSubmit, watch, formState } = useForm({ defaultValues: { ...before, password: '' } });
  const save = useSave();
  return (
    <form
      onSubmit={handleSubmit((f) => {
        const mail: Record<string, string> = {};
        for (const key of ['server', 'security', 'sender', 'user', 'trust'] as const)
          if (f[key] !== before[key]) mail[key] = f[key].trim();
        if (f.password) mail.password = f.password;
        if (Object.keys(mail).length > 0) save.mutate({ mail });
      })}
    >
      <Stack gap="4">
        {save.error && <Refused error={save.error} />}
        <Flex gap="3">
          <Field.Root flex="2" disabled={!mayChange}>
            <Field.Label>
              <Trans>Server</Trans>
            </Field.Label>
            <Input autoComplete="off" placeholder={t`none: nobody is sent mail`} {...register('server')} />
          </Field.Root>
          <Field.Root flex="1" disabled={!mayChange}>
            <Field.Label>
              <Trans>Protected by</Trans>
            </Field.Label>
            <Pick {...register('security')}>
              <option value="starttls">
                <Trans>STARTTLS</Trans>
              </option>
              <option value="tls">
                <Trans>TLS</Trans>
              </option>
              <option value="none">
                <Trans>nothing</Trans>
              </option>
            </Pick>
          </Field.Root>
        </Flex>
        <Field.Root disabled={!mayChange}>
          <Field.Label>
            <Trans>From</Trans>
          </Field.Label>
          <Input autoComplete="off" placeholder={t`files@larkfell.example`} {...register('sender')} />
        </Field.Root>
        <Flex gap="3">
          <Field.Root disabled={!mayChange}>
            <Field.Label>
              <Trans>Signs in as</Trans>
            </Field.Label>
            <Input autoComplete="off" placeholder={t`nobody`} {...register('user')} />
          </Field.Root>
          <Field.Root disabled={!mayChange || watch('security') === 'none'}>
            <Field.Label>
              <Trans>Password</Trans>
            </Field.Label>
            <Input
              type="password"
              autoComplete="new-password"
              placeholder={m.passwordSet ? t`as it is` : t`none`}
              {...register('password')}
            />
          </Field.Root>
        </Flex>
        <Field.Root disabled={!mayChange}>
          <Field.Label>
            <Trans>Certificates that vouch for this server (empty: those the host trusts)</Trans>
          </Field.Label>
          <Textarea
            rows={3}
            fontFamily="mono"
            fontSize="xs"
            placeholder={t`-----BEGIN CERTIFICATE-----`}
            {...register('trust')}
          />
        </Field.Root>
        {mayChange && (
          <Box>
            <MainButton type="submit" size="sm" loading={save.isPending} disabled={!formState.isDirty}>
              <Trans>Save</Trans>
            </MainButton>
          </Box>
        )}
      </Stack>
    </form>
  );
}

function Hooks({ mayChange }: { mayChange: boolean }) {
  const hooks = useHooks();
  const [secret, setSecret] = useState<Hook | null>(null);
  const { register, handleSubmit, reset } = useForm<{ name: string; url: string }>();
  const add = useMutation({
    mutationFn: (f: { name: string; url: string }) =>
      taken(api.POST('/api/v1/notices/hooks', { body: { name: f.name.trim(), url: f.url.trim() } })),
    onSuccess: async (h) => {
      await refresh();
      setSecret(h);
      reset();
    },
  });
  return (
    <Section
      title={t`Webhooks`}
      text={t`Each notice is sent there as JSON, signed with HMAC-SHA256, and tried again until it is taken.`}
    >
      <Stack gap="4">
        {!hooks.data ? (
          <Waiting error={hooks.error} rows={1} />
        ) : (
          hooks.data.map((h) => <HookLine key={h.name} hook={h} mayChange={mayChange} />)
        )}
        {secret?.secret && (
          <Alert.Root status="info" bg="accent.soft" color="ink">
            <Alert.Content>
              <Alert.Title>
                <Trans>The secret of {secret.name}, which is not shown again</Trans>
              </Alert.Title>
              <Command text={secret.secret} />
            </Alert.Content>
          </Alert.Root>
        )}
        {mayChange && (
          <form onSubmit={handleSubmit((f) => add.mutate(f))}>
            {add.error && (
              <Box mb="3">
                <Refused error={add.error} />
              </Box>
            )}
            <HStack gap="3" align="end">
              <Field.Root w="32">
                <Field.Label>
                  <Trans>Name</Trans>
                </Field.Label>
                <Input size="sm" autoComplete="off" {...register('name', { required: true })} />
              </Field.Root>
              <Field.Root flex="1">
                <Field.Label>
                  <Trans>Address</Trans>
                </Field.Label>
                <Input
                  size="sm"
                  autoComplete="off"
                  placeholder={t`https://…`}
                  {...register('url', { required: true })}
                />
              </Field.Root>
              <QuietButton size="sm" type="submit" loading={add.isPending}>
                <Trans>Add</Trans>
              </QuietButton>
            </HStack>
          </form>
        )}
        {!mayChange && hooks.data?.length === 0 && (
          <Text color="faint">
            <Trans>There are none.</Trans>
          </Text>
        )}
      </Stack>
    </Section>
  );
}

function HookLine({ hook, mayChange }: { hook: Hook; mayChange: boolean }) {
  const [asking, setAsking] = useState(false);
  const path = { params: { path: { name: hook.name } } };
  const change = useMutation({
    mutationFn: () => taken(api.PATCH('/api/v1/notices/hooks/{name}', { ...path, body: { on: !hook.on } })),
    onSuccess: refresh,
    onError: sayRefused,
  });
  const test = useMutation({
    mutationFn: () => taken(api.POST('/api/v1/notices/test', { body: { hook: hook.name } })),
    onSuccess: () => say(t`${hook.name} took it.`),
    onError: sayRefused,
  });
  const remove = useMutation({
    mutationFn: () => taken(api.DELETE('/api/v1/notices/hooks/{name}', path)),
    onSuccess: refresh,
    onError: sayRefused,
    onSettled: () => setAsking(false),
  });
  return (
    <Flex justify="space-between" align="center" gap="3" wrap="wrap">
      <Box>
        <Text fontWeight="600">
          {hook.name}
          {!hook.on && (
            <Text as="span" color="faint" fontWeight="400">
              {' '}
              <Trans>– off</Trans>
            </Text>
          )}
        </Text>
        <Text fontSize="sm" color="faint">
          {hook.site}
        </Text>
      </Box>
      {mayChange && (
        <HStack>
          <QuietButton size="sm" loading={test.isPending} onClick={() => test.mutate()}>
            <Trans>Send a test</Trans>
          </QuietButton>
          <QuietButton size="sm" loading={change.isPending} onClick={() => change.mutate()}>
            {hook.on ? t`Switch off` : t`Switch on`}
          </QuietButton>
          <QuietButton size="sm" onClick={() => setAsking(true)}>
            <Trans>Remove</Trans>
          </QuietButton>
        </HStack>
      )}
      <Confirm
        title={t`Remove this webhook?`}
        act={t`Remove`}
        open={asking}
        busy={remove.isPending}
        onClose={() => setAsking(false)}
        onAct={() => remove.mutate()}
      >
        <Text>
          <Trans>
            <b>{hook.name}</b> is called no more, and what waits for it is forgotten.
          </Trans>
        </Text>
      </Confirm>
    </Flex>
  );
}

const names: Record<Letter['name'], { title: string; text: string }> = {
  person: { title: t`To the person`, text: t`Whose limit is close, or whose folder’s.` },
  administrators: {
    title: t`To administrators`,
    text: t`At once, and then at most every five minutes, with all there is to tell.`,
  },
};

function Letters({ mayChange }: { mayChange: boolean }) {
  const letters = useLetters();
  if (!letters.data) return <Waiting error={letters.error} />;
  return (
    <Grid templateColumns={{ base: '1fr', xl: '1fr 1fr' }} gap="5" alignItems="start">
      {letters.data.map((l) => (
        <LetterForm key={l.name + l.text} letter={l} mayChange={mayChange} />
      ))}
    </Grid>
  );
}

function LetterForm({ letter, mayChange }: { letter: Letter; mayChange: boolean }) {
  const { register, handleSubmit, formState } = useForm({ defaultValues: { text: letter.text } });
  const save = useMutation({
    mutationFn: (text: string) =>
      taken(api.PUT('/api/v1/notices/templates/{name}', { params: { path: { name: letter.name } }, body: { text } })),
    onSuccess: async () => {
      await refresh();
      say(t`Saved.`);
    },
  });
  return (
    <Section {...names[letter.name]}>
      <form onSubmit={handleSubmit((f) => save.mutate(f.text))}>
        <Stack gap="3">
          {save.error && <Refused error={save.error} />}
          <Textarea
            rows={14}
            fontFamily="mono"
            fontSize="sm"
            aria-label={t`Letter ${names[letter.name].title.toLowerCase()}`}
            readOnly={!mayChange}
            {...register('text')}
          />
          <Text fontSize="sm" color="faint">
            <Trans>Filled in: {letter.fills}. The first line is the subject.</Trans>
          </Text>
          {mayChange && (
            <HStack>
              <MainButton type="submit" size="sm" loading={save.isPending} disabled={!formState.isDirty}>
                <Trans>Save</Trans>
              </MainButton>
              {letter.own && (
                <QuietButton size="sm" onClick={() => save.mutate('')}>
                  <Trans>Take the one that came with the service</Trans>
                </QuietButton>
              )}
            </HStack>
          )}
        </Stack>
      </form>
    </Section>
  );
}
