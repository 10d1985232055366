import { Box, Field, Flex, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useQuery } from '@tanstack/react-query';
import { useForm } from 'react-hook-form';
import { useSearchParams } from 'react-router';
import { change } from '../api/change';
import { type Why as Answer, api, type Change, type Gate, levels, taken, useMe } from '../api/client';
import { Away } from '../parts/away';
import { Command } from '../parts/command';
import { GateIcon } from '../parts/icons';
import { Pick } from '../parts/pick';
import { PickerField } from '../parts/picker';
import { MainButton, PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';

type Form = { user: string; path: string; want: string; via: 'smb' | 'nfs'; from: string; at: string };

/** The access rights by their names in RFC 8881, as an entry says them. */
const rights = [
  'read_data',
  'write_data',
  'append_data',
  'read_named_attrs',
  'write_named_attrs',
  'execute',
  'delete_child',
  'read_attributes',
  'write_attributes',
  'delete',
  'read_acl',
  'write_acl',
  'write_owner',
];

/** Something that is not so, and is asked about as if it were. */
type Supposed = { what: 'in' | 'out' | 'entry'; name: string };

const suppositions: Record<Supposed['what'], string> = {
  in: t`they were in the group`,
  out: t`they were not in the group`,
  entry: t`an entry there gave this level to`,
};

/** The changes by which it would be so. */
function supposed(list: Supposed[], asked: Form): Change[] {
  return list.map((s) => {
    if (s.what === 'entry')
      return change('entry', 'add', { with: { path: asked.path, who: s.name, level: asked.want.replaceAll(' ', '') } });
    return s.what === 'in'
      ? change('member', 'add', { of: { name: s.name, member: `user:${asked.user}` } })
      : change('member', 'remove', { of: { name: s.name, member: `user:${asked.user}` } });
  });
}

const textOf = (list: Supposed[]) => list.map((s) => `${s.what}:${s.name}`).join(',');
const fromText = (text: string): Supposed[] =>
  text
    .split(',')
    .map((one) => one.split(':'))
    .filter(([what, name]) => (what === 'in' || what === 'out' || what === 'entry') && name)
    .map(([what, name]) => ({ what, name }) as Supposed);

/** Why may somebody do something, or not: the gates in order, from the same walk that decides; now, at a moment, or as if something were otherwise. */
export function Why() {
  const me = useMe().data;
  const [params, setParams] = useSearchParams();
  const asked: Form = {
    user: params.get('user') ?? '',
    path: params.get('path') ?? '',
    want: params.get('want') ?? 'read',
    via: params.get('via') === 'nfs' ? 'nfs' : 'smb',
    from: params.get('from') ?? '',
    at: params.get('at') ?? '',
  };
  const asIf = fromText(params.get('if') ?? '');
  const { register, control, handleSubmit, formState, watch } = useForm<Form>({
    values: asked,
    resetOptions: { keepDirtyValues: true },
  });
  const looks = me?.role !== 'user';
  const ready = asked.user !== '' && asked.path !== '';
  const { from, at, ...plain } = asked;
  const query = {
    ...plain,
    ...(from && { from }),
    ...(at && { at: new Date(at).toISOString() }),
  };
  const answer = useQuery({
    queryKey: ['why', query, asIf],
    queryFn: async (): Promise<Answer> => {
      if (asIf.length === 0) return taken(api.GET('/api/v1/why', { params: { query } }));
      const ask = `why?${new URLSearchParams(query as Record<string, string>)}`;
      return (await taken(
        api.POST('/api/v1/as-if', { body: { changes: supposed(asIf, asked), ask } }),
      )) as unknown as Answer;
    },
    enabled: ready,
    staleTime: 0,
    retry: false,
  });
  const suppose = (list: Supposed[]) => {
    const next = new URLSearchParams(window.location.search);
    if (list.length > 0) next.set('if', textOf(list));
    else next.delete('if');
    setParams(next);
  };
  return (
    <>
      <PageHead
        title={t`Why`}
        text={t`What a user may do to a path, gate by gate: the same walk that decides requests.`}
      />
      <Sheet p="4" mb="5">
        <form
          onSubmit={handleSubmit((f) => {
            const next = new URLSearchParams();
            for (const [k, v] of Object.entries(f)) if (v.trim()) next.set(k, v.trim());
            if (asIf.length > 0) next.set('if', textOf(asIf));
            setParams(next);
            if (ready) answer.refetch();
          })}
        >
          <Flex gap="3" wrap="wrap" align="end">
            <Field.Root w={{ base: 'full', sm: '44' }} invalid={!!formState.errors.user}>
              <Field.Label>
                <Trans>User</Trans>
              </Field.Label>
              <PickerField of="user" control={control} name="user" placeholder={t`user`} rules={{ required: true }} />
            </Field.Root>
            <Field.Root w={{ base: 'full', sm: '32' }}>
              <Field.Label>
                <Trans>wants</Trans>
              </Field.Label>
              <Pick {...register('want')}>
                {levels.map((l) => (
                  <option key={l.level} value={l.level}>
                    {l.level}
                  </option>
                ))}
                <optgroup label={t`one access right`}>
                  {rights.map((right) => (
                    <option key={right} value={right}>
                      {right}
                    </option>
                  ))}
                </optgroup>
                {!levels.some((l) => l.level === asked.want) && !rights.includes(asked.want) && (
                  <option value={asked.want}>{asked.want}</option>
                )}
              </Pick>
            </Field.Root>
            <Field.Root flex="1" minW="56" invalid={!!formState.errors.path}>
              <Field.Label>
                <Trans>on</Trans>
              </Field.Label>
              <PickerField
                of="path"
                mono
                control={control}
                name="path"
                placeholder={t`folder/path`}
                rules={{ required: true }}
              />
            </Field.Root>
            <Field.Root w={{ base: 'full', sm: '28' }}>
              <Field.Label>
                <Trans>over</Trans>
              </Field.Label>
              <Pick {...register('via')}>
                <option value="smb">
                  <Trans>SMB</Trans>
                </option>
                <option value="nfs">
                  <Trans>NFS</Trans>
                </option>
              </Pick>
            </Field.Root>
            <Field.Root w={{ base: 'full', sm: '44' }}>
              <Field.Label>
                <Trans>from</Trans>
              </Field.Label>
              <Input
                autoComplete="off"
                placeholder={watch('via') === 'nfs' ? t`address or host` : t`any host`}
                {...register('from')}
              />
            </Field.Root>
            {looks && (
              <Field.Root w={{ base: 'full', sm: '56' }}>
                <Field.Label>
                  <Trans>as of</Trans>
                </Field.Label>
                <Input type="datetime-local" max={new Date().toISOString().slice(0, 16)} {...register('at')} />
              </Field.Root>
            )}
            <MainButton type="submit" loading={answer.isFetching}>
              <Trans>Ask</Trans>
            </MainButton>
          </Flex>
        </form>
        {looks && ready && <Suppose list={asIf} onList={suppose} />}
      </Sheet>
      {!ready && (
        <Text color="faint">
          <Trans>Name a user and a path, such as orla on nightlog.</Trans>
        </Text>
      )}
      {ready && asIf.length > 0 && answer.data && (
        <Text role="note" bg="accent.soft" borderRadius="md" px="4" py="2" mb="4">
          <Trans>
            As if {asIf.map((s) => `${suppositions[s.what]} ${s.name}`).join(', and ')}. Nothing is changed.
          </Trans>
        </Text>
      )}
      {ready && answer.error && <Refused error={answer.error} />}
      {ready && !answer.error && (answer.data ? <Verdict why={answer.data} /> : <Waiting error={null} />)}
    </>
  );
}

/** What is to be taken for so. */
function Suppose({ list, onList }: { list: Supposed[]; onList: (list: Supposed[]) => void }) {
  const { register, control, handleSubmit, watch, reset } = useForm<Supposed>({
    defaultValues: { what: 'in', name: '' },
  });
  return (
    <Box mt="4" pt="4" borderTopWidth="1px" borderColor="line">
      <form
        onSubmit={handleSubmit((s) => {
          onList([...list, { ...s, name: s.name.trim() }]);
          reset();
        })}
      >
        <Flex gap="3" wrap="wrap" align="end">
          <Field.Root w={{ base: 'full', sm: '64' }}>
            <Field.Label>
              <Trans>As if</Trans>
            </Field.Label>
            <Pick {...register('what')}>
              {Object.entries(suppositions).map(([what, text]) => (
                <option key={what} value={what}>
                  {text}
                </option>
              ))}
            </Pick>
          </Field.Root>
          <Box w={{ base: 'full', sm: '52' }}>
            <PickerField
              of={watch('what') === 'entry' ? 'who' : 'group'}
              control={control}
              name="name"
              aria-label={t`Which`}
              placeholder={watch('what') === 'entry' ? t`user or group` : t`group`}
              rules={{ required: true }}
            />
          </Box>
          <QuietButton type="submit">
            <Trans>Suppose it</Trans>
          </QuietButton>
          {list.map((s) => (
            <QuietButton
              key={`${s.what} ${s.name}`}
              size="sm"
              bg="accent.soft"
              onClick={() => onList(list.filter((one) => one !== s))}
            >
              {suppositions[s.what]} {s.name} ×
            </QuietButton>
          ))}
        </Flex>
      </form>
    </Box>
  );
}

function Verdict({ why }: { why: Answer }) {
  const fix = why.allowed ? [] : why.gates.flatMap((g) => g.fix ?? []);
  const touches = why.allowed ? [] : why.gates.flatMap((g) => g.touches ?? []);
  return (
    <Box aria-live="polite">
      {why.away && <Away why={why.away} />}
      <Flex bg={why.allowed ? 'open.soft' : 'shut.soft'} borderRadius="lg" px="5" py="4" gap="4" align="center" mb="6">
        <GateIcon open={why.allowed} boxSize="10" color={why.allowed ? 'open' : 'shut'} />
        <Box>
          <Heading as="h2" fontSize="xl">
            {why.allowed ? t`Allowed` : t`Refused at the ${why.gate ?? ''} gate`}
          </Heading>
          <Text>
            <Trans>
              <b>{why.user}</b> wants <b>{why.want}</b> on{' '}
              <Text as="span" fontFamily="mono" fontSize="sm">
                {why.path}
              </Text>
              {why.share
                ? why.via === 'nfs'
                  ? t`, through export ${why.share} from ${why.from ?? ''}`
                  : why.from
                    ? t`, through share ${why.share} from ${why.from}`
                    : t`, through share ${why.share}`
                : ''}
              . All gates together leave <b>{why.granted}</b>.
              {!why.exists && t` Nothing is at that path on disk: this is what would hold for a directory there.`}
            </Trans>
          </Text>
        </Box>
      </Flex>
      <Stack as="ol" gap="0" listStyleType="none" mb="5">
        {why.gates.map((g, i) => (
          <GateRow
            key={g.gate}
            gate={g}
            last={i === why.gates.length - 1}
            decides={!why.allowed && g.gate === why.gate}
          />
        ))}
      </Stack>
      {(why.takeAway?.length ?? 0) > 0 && (
        <Sheet p="4">
          <Heading as="h3" fontSize="md" mb="3">
            <Trans>To take it away</Trans>
          </Heading>
          <Stack gap="2">
            {why.takeAway?.map((m) => (
              <Command key={m} text={m} />
            ))}
          </Stack>
        </Sheet>
      )}
      {fix.length > 0 && (
        <Sheet p="4">
          <Heading as="h3" fontSize="md" mb="3">
            <Trans>To allow it</Trans>
          </Heading>
          <Stack gap="2">
            {fix.map((m) => (
              <Command key={m} text={m} />
            ))}
          </Stack>
          {touches.map((t) => (
            <Text key={t} mt="3" fontSize="sm">
              <Trans>Mind: {t}.</Trans>
            </Text>
          ))}
        </Sheet>
      )}
    </Box>
  );
}

/** One gate on the way: its post stands on the path that runs down the page. */
function GateRow({ gate, last, decides }: { gate: Gate; last: boolean; decides: boolean }) {
  return (
    <Flex as="li" gap="4">
      <Flex direction="column" align="center" flexShrink="0">
        <Flex
          boxSize="10"
          borderRadius="full"
          align="center"
          justify="center"
          bg={gate.passed ? 'open.soft' : 'shut.soft'}
          color={gate.passed ? 'open' : 'shut'}
          outline={decides ? '2px solid' : undefined}
          outlineColor="shut"
        >
          <GateIcon open={gate.passed} boxSize="6" />
        </Flex>
        {!last && <Box flex="1" w="2px" minH="2" bg="line" />}
      </Flex>
      <Box pb={last ? '0' : '3'} minW="0">
        <HStack gap="2" wrap="wrap">
          <Text fontWeight="700" textTransform="capitalize">
            {gate.gate}
          </Text>
          <Text color={gate.passed ? 'faint' : 'shut'} fontWeight={gate.passed ? '400' : '600'}>
            <Trans>leaves {gate.leaves}</Trans>
          </Text>
          {gate.record && (
            <Text fontSize="xs" fontFamily="mono" color="faint" px="1.5" borderRadius="sm" bg="sunk">
              {gate.record}
            </Text>
          )}
        </HStack>
        <Text color={decides ? 'ink' : 'faint'}>{gate.reason}</Text>
      </Box>
    </Flex>
  );
}
