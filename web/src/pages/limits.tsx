import { Box, Field, Grid, HStack, Input, Stack, Tabs, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link, useSearchParams } from 'react-router';
import { type Change, type LimitBody, type Standing, type Use, useLimits, useMe, useUses } from '../api/client';
import { Previewed } from '../parts/effect';
import { Pick } from '../parts/pick';
import { PickerField } from '../parts/picker';
import { MainButton, PageHead, QuietButton, Sheet, Waiting } from '../parts/sheet';
import { InUse, size, stateOf, UseBar } from '../parts/use';
import { UseLine } from '../parts/use-line';

const kinds: { by: Use['by']; text: string }[] = [
  { by: 'user', text: t`Users` },
  { by: 'group', text: t`Groups` },
  { by: 'folder', text: t`Folders` },
  { by: 'tree', text: t`Paths with limits` },
  { by: 'volume', text: t`Volumes` },
];

/** Who uses how much, and who is close to a limit. */
export function Limits() {
  const [params, setParams] = useSearchParams();
  const by = params.get('by') === 'all' ? 'all' : (kinds.find((k) => k.by === params.get('by'))?.by ?? 'user');
  const [named, setNamed] = useState('');
  const [making, setMaking] = useState(false);
  const me = useMe();
  const mayChange = me.data?.role === 'administrator' || me.data?.role === 'operator';
  return (
    <>
      <PageHead
        title={t`Limits`}
        text={t`Who uses how much, the fullest first. A limit that is changed binds at once.`}
      >
        {mayChange && (
          <MainButton onClick={() => setMaking(true)}>
            <Trans>Set a limit</Trans>
          </MainButton>
        )}
      </PageHead>
      {making && (
        <Sheet p="5" mb="5">
          <LimitForm onClose={() => setMaking(false)} />
        </Sheet>
      )}
      <Tabs.Root
        value={by}
        onValueChange={(e) => setParams(e.value === 'user' ? {} : { by: e.value }, { replace: true })}
        lazyMount
        unmountOnExit
        css={{ '--indicator-color': 'colors.accent' }}
      >
        <HStack justify="space-between" align="end" mb="4" gap="4" wrap="wrap">
          <Tabs.List borderColor="line" overflowX="auto" overflowY="hidden">
            {kinds.map((k) => (
              <Tabs.Trigger key={k.by} value={k.by}>
                {k.text}
              </Tabs.Trigger>
            ))}
            <Tabs.Trigger value="all">
              <Trans>All limits</Trans>
            </Tabs.Trigger>
          </Tabs.List>
          <Input
            w="56"
            size="sm"
            placeholder={t`Only names with…`}
            aria-label={t`Only names with`}
            value={named}
            onChange={(e) => setNamed(e.target.value)}
          />
        </HStack>
        {kinds.map((k) => (
          <Tabs.Content key={k.by} value={k.by} p="0">
            <Uses by={k.by} named={named} mayChange={mayChange} />
          </Tabs.Content>
        ))}
        <Tabs.Content value="all" p="0">
          <AllLimits mayChange={mayChange} named={named} />
        </Tabs.Content>
      </Tabs.Root>
    </>
  );
}

function Uses({ by, named, mayChange }: { by: Use['by']; named: string; mayChange: boolean }) {
  const uses = useUses(by, named);
  const [open, setOpen] = useState('');
  if (!uses.data) return <Waiting error={uses.error} />;
  if (uses.data.uses.length === 0)
    return (
      <Text color="faint">
        {named ? t`Nobody and nothing has “${named}” in its name here.` : t`Nothing is counted here yet.`}
      </Text>
    );
  return (
    <Sheet>
      {uses.data.uses.map((u) => (
        <Row
          key={u.name}
          use={u}
          open={open === u.name}
          onOpen={() => setOpen(open === u.name ? '' : u.name)}
          mayChange={mayChange}
        />
      ))}
      {uses.data.total > uses.data.uses.length && (
        <Text p="4" color="faint" fontSize="sm">
          <Trans>And {uses.data.total - uses.data.uses.length} more: narrow them by name.</Trans>
        </Text>
      )}
    </Sheet>
  );
}

function Row({ use, open, onOpen, mayChange }: { use: Use; open: boolean; onOpen: () => void; mayChange: boolean }) {
  const s = use.standings[0];
  const state = s ? stateOf(s) : { text: '', bad: false };
  return (
    <Box borderBottomWidth="1px" borderColor="line" _last={{ borderBottomWidth: 0 }}>
      <Grid
        as="button"
        w="full"
        textAlign="start"
        cursor="pointer"
        templateColumns={{ base: '1fr', md: '1.1fr 2fr 1.3fr' }}
        gap={{ base: '2', md: '6' }}
        px="5"
        py="3.5"
        alignItems="center"
        aria-expanded={open}
        onClick={onOpen}
        _hover={{ bg: 'sunk' }}
      >
        <Box>
          <Text fontWeight="600" wordBreak="break-word">
            {use.name}
          </Text>
          <Text fontSize="sm" color="faint">
            {use.fullName}
          </Text>
        </Box>
        {s ? (
          <UseBar standing={s} />
        ) : (
          <Text color="faint" fontSize="sm">
            <Trans>no limit</Trans>
          </Text>
        )}
        <Box fontSize="sm">
          <InUse use={use} />
          {state.text && (
            <Text color={state.bad ? 'shut' : 'accent'} fontWeight="600">
              {state.text}
            </Text>
          )}
        </Box>
      </Grid>
      {open && (
        <Box px="5" pb="5" pt="1">
          <Grid templateColumns={{ base: '1fr', lg: '1.6fr 1fr' }} gap="8">
            <UseLine by={use.by} name={use.name} days={14} />
            <Stack gap="4">
              {use.by === 'user' && use.known && (
                <Link to={`/people/${encodeURIComponent(use.name)}`}>
                  <Text color="accent" textDecoration="underline">
                    {use.fullName || use.name}
                  </Text>
                </Link>
              )}
              {use.standings.map((one) => (
                <Bearing key={one.limitId} use={use} standing={one} mayChange={mayChange} />
              ))}
              {use.standings.length === 0 &&
                mayChange &&
                use.known &&
                (use.by === 'user' || use.by === 'group' || use.by === 'folder') && (
                  <LimitForm of={{ kind: use.by, name: use.name }} />
                )}
            </Stack>
          </Grid>
        </Box>
      )}
    </Box>
  );
}

/** One limit that bears on a use, to be changed in place. */
function Bearing({ use, standing: s, mayChange }: { use: Use; standing: Standing; mayChange: boolean }) {
  const own = s.subject.startsWith(`${s.limit.kind} ${use.name}`);
  return (
    <Box>
      <Text fontWeight="600" mb="2">
        {own ? t`Limit of ${s.subject}` : t`Bound by the limit of ${s.subject}`}
      </Text>
      {mayChange && <LimitForm of={s.limit} was={s} />}
    </Box>
  );
}

const shown = (n?: number) => (n === undefined ? '' : size(n).replace(' ', '').replace(/B$/, 'B'));
const number = (n?: number) => (n === undefined ? '' : String(n));

interface LimitFields {
  kind: LimitBody['kind'];
  name: string;
  reach: string;
  softBytes: string;
  hardBytes: string;
  softFiles: string;
  hardFiles: string;
  grace: string;
}

/** Sets a limit, or changes one; what it does is shown first. */
function LimitForm(props: { of?: LimitOf; was?: Standing; onClose?: () => void }) {
  const before = {
    softBytes: shown(props.was?.softBytes),
    hardBytes: shown(props.was?.hardBytes),
    softFiles: number(props.was?.softFiles),
    hardFiles: number(props.was?.hardFiles),
  };
  const { register, control, handleSubmit, watch } = useForm<LimitFields>({
    defaultValues: { kind: props.of?.kind ?? 'user', name: props.of?.name ?? '', reach: '', ...before, grace: '' },
  });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const kind = watch('kind');
  const submit = handleSubmit((f) => {
    const body: LimitBody = { kind: f.kind, name: f.name || undefined };
    if (props.of) Object.assign(body, { volume: props.of.volume, folder: props.of.folder });
    else if (f.reach && f.kind !== 'folder') body.folder = f.reach;
    for (const bound of ['softBytes', 'hardBytes', 'softFiles', 'hardFiles'] as const) {
      const text = f[bound].trim();
      if (text !== before[bound]) body[bound] = text === '' ? 'none' : text;
    }
    if (f.grace.trim()) body.grace = f.grace.trim();
    setAsking([{ kind: 'limit', act: 'set', with: body }]);
  });
  return (
    <form onSubmit={submit}>
      <Stack gap="3">
        {!props.of && (
          <HStack gap="3" align="end" wrap="wrap">
            <Field.Root w="40">
              <Field.Label>
                <Trans>Whose</Trans>
              </Field.Label>
              <Pick {...register('kind')}>
                <option value="user">
                  <Trans>A user’s</Trans>
                </option>
                <option value="group">
                  <Trans>A group’s</Trans>
                </option>
                <option value="folder">
                  <Trans>A folder’s, or a path’s</Trans>
                </option>
                <option value="default">
                  <Trans>Of all without their own</Trans>
                </option>
              </Pick>
            </Field.Root>
            <Field.Root w="64">
              <Field.Label>
                {kind === 'folder'
                  ? t`Folder, or folder/path`
                  : kind === 'default'
                    ? t`Members of (empty: everybody)`
                    : t`Name`}
              </Field.Label>
              <PickerField
                of={kind === 'user' ? 'user' : kind === 'folder' ? 'path' : 'group'}
                control={control}
                name="name"
                rules={{ required: kind !== 'default' }}
              />
            </Field.Root>
            {kind !== 'folder' && (
              <Field.Root w="48">
                <Field.Label>
                  <Trans>In folder (empty: everywhere)</Trans>
                </Field.Label>
                <PickerField of="folder" control={control} name="reach" />
              </Field.Root>
            )}
          </HStack>
        )}
        <HStack gap="3" align="end" wrap="wrap">
          <Bound label={t`Soft`} hint="2.5GB" {...register('softBytes')} />
          <Bound label={t`Hard`} hint="3GB" {...register('hardBytes')} />
          <Bound label={t`Soft files`} hint="none" {...register('softFiles')} />
          <Bound label={t`Hard files`} hint="none" {...register('hardFiles')} />
          <Bound label={t`Grace`} hint={props.was ? t`as it is` : '7d'} {...register('grace')} />
        </HStack>
        <HStack>
          <MainButton type="submit" size="sm">
            <Trans>See what it does</Trans>
          </MainButton>
          {props.was && (
            <QuietButton size="sm" onClick={() => setAsking([{ kind: 'limit', act: 'remove', of: subject(props.of) }])}>
              <Trans>Remove it</Trans>
            </QuietButton>
          )}
          {props.onClose && (
            <QuietButton size="sm" onClick={props.onClose}>
              <Trans>Leave it</Trans>
            </QuietButton>
          )}
        </HStack>
      </Stack>
      <Previewed
        title={asking?.[0]?.act === 'remove' ? t`Remove the limit` : t`Set the limit`}
        act={asking?.[0]?.act === 'remove' ? t`Remove` : t`Set`}
        done={t`Done. It binds already.`}
        changes={asking}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          props.onClose?.();
        }}
      />
    </form>
  );
}

type LimitOf = Pick<LimitBody, 'kind' | 'name' | 'volume' | 'folder'>;

/** Whose limit is meant, and where it reaches. */
const subject = (of?: LimitOf) => ({
  kind: of?.kind ?? 'user',
  name: of?.name || undefined,
  volume: of?.volume || undefined,
  folder: of?.folder || undefined,
});

function Bound({ label, hint, ...rest }: { label: string; hint: string } & React.ComponentProps<typeof Input>) {
  return (
    <Field.Root w="24">
      <Field.Label>{label}</Field.Label>
      <Input size="sm" placeholder={hint} autoComplete="off" {...rest} />
    </Field.Root>
  );
}

/** Every limit as it is written down. */
function AllLimits({ mayChange, named }: { mayChange: boolean; named: string }) {
  const limits = useLimits();
  const [open, setOpen] = useState(0);
  if (!limits.data) return <Waiting error={limits.error} />;
  const list = limits.data.filter((l) => l.subject.toLowerCase().includes(named.toLowerCase()));
  if (list.length === 0)
    return (
      <Text color="faint">
        <Trans>There is none.</Trans>
      </Text>
    );
  return (
    <Sheet>
      {list.map((l) => (
        <Box key={l.id} px="5" py="3.5" borderBottomWidth="1px" borderColor="line" _last={{ borderBottomWidth: 0 }}>
          <HStack justify="space-between">
            <Box>
              <Text fontWeight="600">{l.subject}</Text>
              <Text color="faint" fontSize="sm">
                {l.says}
              </Text>
              {l.waits && (
                <Text color="accent" fontSize="sm">
                  <Trans>It does not bind yet: {l.waits}.</Trans>
                </Text>
              )}
            </Box>
            {mayChange && (
              <QuietButton size="sm" onClick={() => setOpen(open === l.id ? 0 : l.id)} aria-expanded={open === l.id}>
                <Trans>Change</Trans>
              </QuietButton>
            )}
          </HStack>
          {open === l.id && (
            <Box pt="4">
              <LimitForm
                of={l}
                was={{ ...l, limitId: l.id, limit: l, usedBytes: 0, usedFiles: 0, percent: 0, state: 'within' }}
                onClose={() => setOpen(0)}
              />
            </Box>
          )}
        </Box>
      ))}
    </Sheet>
  );
}
