import { Box, Checkbox, Field, Flex, HStack, IconButton, Input, Stack, Text } from '@chakra-ui/react';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { api, type ClientRule, client, Refusal, type RuleBody, taken, useHostSets } from '../api/client';
import { Confirm } from './confirm';
import { AddIcon, DownIcon, EditIcon, RemoveIcon, UpIcon } from './icons';
import { Pick } from './pick';
import { MainButton, QuietButton, Refused } from './sheet';
import { say, sayRefused } from './toaster';

/** Whose client rules they are: an export's, by its path, or a host set's. */
export type RuleList = { export: string; set?: undefined } | { set: string; export?: undefined };

/** An export's path as it stands in a route: the slash in front says nothing. */
export const named = (path: string) => path.replace(/^\//, '');

const refresh = async () => {
  await client.invalidateQueries({ queryKey: ['exports'] });
  await client.invalidateQueries({ queryKey: ['folders'] });
};

const add = (l: RuleList, body: RuleBody) =>
  l.set !== undefined
    ? api.POST('/api/v1/host-sets/{name}/rules', { params: { path: { name: l.set } }, body })
    : api.POST('/api/v1/exports/{name}/rules', { params: { path: { name: named(l.export) } }, body });
const change = (l: RuleList, id: number, body: RuleBody) =>
  l.set !== undefined
    ? api.PATCH('/api/v1/host-sets/{name}/rules/{id}', { params: { path: { name: l.set, id } }, body })
    : api.PATCH('/api/v1/exports/{name}/rules/{id}', { params: { path: { name: named(l.export), id } }, body });
const move = (l: RuleList, id: number, position: number) =>
  l.set !== undefined
    ? api.PUT('/api/v1/host-sets/{name}/rules/{id}/position', {
        params: { path: { name: l.set, id } },
        body: { position },
      })
    : api.PUT('/api/v1/exports/{name}/rules/{id}/position', {
        params: { path: { name: named(l.export), id } },
        body: { position },
      });
const remove = (l: RuleList, id: number) =>
  l.set !== undefined
    ? api.DELETE('/api/v1/host-sets/{name}/rules/{id}', { params: { path: { name: l.set, id } } })
    : api.DELETE('/api/v1/exports/{name}/rules/{id}', { params: { path: { name: named(l.export), id } } });

/** Client rules in their order: the first that matches decides. Lines are the same as in force. */
export function Rules(props: { list: RuleList; rules: ClientRule[]; lines?: ClientRule[]; mayChange: boolean }) {
  const [adding, setAdding] = useState(false);
  const { list, rules, lines, mayChange } = props;
  return (
    <>
      {rules.length === 0 && !adding && (
        <Text px="4" py="3" color="faint">
          No client rules: nobody may mount it.
        </Text>
      )}
      <Stack as="ol" gap="0" listStyleType="none" aria-label="Client rules, the first that matches decides">
        {rules.map((r, i) => (
          <RuleRow
            key={r.id}
            list={list}
            rule={r}
            place={i + 1}
            last={i === rules.length - 1}
            lines={(lines ?? []).filter((l) => (r.from.startsWith('@') ? l.set === r.from.slice(1) : l.id === r.id))}
            mayChange={mayChange}
          />
        ))}
      </Stack>
      {adding && <RuleForm list={list} onDone={() => setAdding(false)} />}
      {mayChange && !adding && (
        <Box px="4" py="3" borderTopWidth={rules.length ? '1px' : '0'} borderColor="line">
          <QuietButton size="sm" onClick={() => setAdding(true)}>
            <AddIcon /> Add client rule
          </QuietButton>
        </Box>
      )}
    </>
  );
}

function RuleRow(props: {
  list: RuleList;
  rule: ClientRule;
  place: number;
  last: boolean;
  lines: ClientRule[];
  mayChange: boolean;
}) {
  const { list, rule, place, last, lines, mayChange } = props;
  const [editing, setEditing] = useState(false);
  const [asking, setAsking] = useState(false);
  const set = rule.from.startsWith('@');
  const shift = useMutation({
    mutationFn: (to: number) => taken(move(list, rule.id, to)),
    onSuccess: refresh,
    onError: sayRefused,
  });
  const drop = useMutation({
    mutationFn: () => taken(remove(list, rule.id)),
    onSuccess: async () => {
      await refresh();
      say(`Removed: ${rule.from}.`);
    },
    onError: sayRefused,
    onSettled: () => setAsking(false),
  });
  if (editing) return <RuleForm list={list} rule={rule} onDone={() => setEditing(false)} />;
  return (
    <Flex
      as="li"
      px="4"
      py="3"
      gap="4"
      align="start"
      borderTopWidth={place > 1 ? '1px' : '0'}
      borderColor="line"
      wrap={{ base: 'wrap', md: 'nowrap' }}
    >
      <Text color="faint" w="5" textAlign="end" flexShrink="0" fontVariantNumeric="tabular-nums">
        {lines[0]?.number ?? place}.
      </Text>
      <Box flex="1" minW="52">
        <HStack gap="2" wrap="wrap">
          <Text fontFamily="mono" fontSize="sm" fontWeight="600">
            {rule.from}
          </Text>
          {!set && (
            <Text
              fontSize="xs"
              fontWeight="600"
              px="1.5"
              borderRadius="sm"
              bg={rule.write ? 'accent.soft' : 'sunk'}
              title={rule.write ? 'read-write' : 'read-only'}
            >
              {rule.write ? 'rw' : 'ro'}
            </Text>
          )}
        </HStack>
        {!set && (
          <Text color="faint" fontSize="sm">
            {rule.terms.replace(/^r[wo], /, '')}
          </Text>
        )}
        {set &&
          lines.map((l) => (
            <Text key={l.number} color="faint" fontSize="sm">
              {l !== lines[0] && `${l.number}. `}
              <Text as="span" fontFamily="mono" fontSize="xs">
                {l.from}
              </Text>{' '}
              {l.terms}
            </Text>
          ))}
        {rule.everyone && <Warning>It lets in every host that can reach this gateway.</Warning>}
        {lines
          .filter((l) => l.shadowedBy)
          .map((l) => (
            <Warning key={l.number}>
              {set ? `${l.from} never applies` : 'It never applies'}: line {l.shadowedBy} matches all that it does, and
              comes first.
            </Warning>
          ))}
      </Box>
      {mayChange && (
        <HStack gap="0" flexShrink="0">
          <Act
            label={`Move ${rule.from} up`}
            off={place === 1 || shift.isPending}
            onClick={() => shift.mutate(place - 1)}
          >
            <UpIcon />
          </Act>
          <Act label={`Move ${rule.from} down`} off={last || shift.isPending} onClick={() => shift.mutate(place + 1)}>
            <DownIcon />
          </Act>
          <Act label={`Change ${rule.from}`} off={set} onClick={() => setEditing(true)}>
            <EditIcon />
          </Act>
          <Act label={`Remove ${rule.from}`} shut onClick={() => setAsking(true)}>
            <RemoveIcon />
          </Act>
          <Confirm
            title="Remove this client rule?"
            act="Remove"
            open={asking}
            busy={drop.isPending}
            onClose={() => setAsking(false)}
            onAct={() => drop.mutate()}
          >
            <Text>
              What <b>{rule.from}</b> has mounted is decided by the rules that are left, from the next request on.
            </Text>
          </Confirm>
        </HStack>
      )}
    </Flex>
  );
}

function Warning({ children }: { children: React.ReactNode }) {
  return (
    <Text color="shut" fontSize="sm" fontWeight="600">
      {children}
    </Text>
  );
}

function Act(props: { label: string; off?: boolean; shut?: boolean; onClick: () => void; children: React.ReactNode }) {
  return (
    <IconButton
      aria-label={props.label}
      size="sm"
      variant="ghost"
      color="faint"
      disabled={props.off}
      _hover={props.shut ? { bg: 'shut.soft', color: 'shut' } : { bg: 'sunk', color: 'ink' }}
      onClick={props.onClick}
    >
      {props.children}
    </IconButton>
  );
}

type Form = {
  from: string;
  access: 'ro' | 'rw';
  squash: 'none' | 'root' | 'all';
  anonUid: number;
  anonGid: number;
  unknown: 'refused' | 'anonymous' | 'number';
  privilegedPort: boolean;
};

const numbered = { valueAsNumber: true, min: 0, max: 4294967294 };

function RuleForm({ list, rule, onDone }: { list: RuleList; rule?: ClientRule; onDone: () => void }) {
  const sets = useHostSets();
  const { register, handleSubmit, formState, watch } = useForm<Form>({
    defaultValues: {
      from: rule?.from ?? '',
      access: rule?.write ? 'rw' : 'ro',
      squash: rule?.squash ?? 'root',
      anonUid: rule?.anonUid ?? 65534,
      anonGid: rule?.anonGid ?? 65534,
      unknown: rule?.unknown ?? 'refused',
      privilegedPort: rule?.privilegedPort ?? false,
    },
  });
  const isSet = watch('from').trim().startsWith('@');
  const [knowing, setKnowing] = useState<Form | null>(null);
  const save = useMutation({
    mutationFn: ({ f, everyone }: { f: Form; everyone: boolean }) => {
      const from = f.from.trim();
      const { access, from: _, ...terms } = f;
      const body: RuleBody = from.startsWith('@') ? { from } : { ...terms, from, write: access === 'rw', everyone };
      return rule ? taken<unknown>(change(list, rule.id, body)) : taken<unknown>(add(list, body));
    },
    onSuccess: async (_, { f }) => {
      await refresh();
      say(`${rule ? 'Changed' : 'Added'}: ${f.from}.`);
      onDone();
    },
    onError: (e, { f }) => setKnowing(e instanceof Refusal && e.confirm ? f : null),
  });
  return (
    <Box
      as="form"
      px="4"
      py="4"
      borderTopWidth="1px"
      borderColor="line"
      onSubmit={handleSubmit((f) => save.mutate({ f, everyone: false }))}
    >
      {save.error && !(save.error instanceof Refusal && save.error.confirm) && (
        <Box mb="4">
          <Refused error={save.error} />
        </Box>
      )}
      <Flex gap="3" wrap="wrap" align="end">
        <Field.Root flex="1" minW="56" invalid={!!formState.errors.from}>
          <Field.Label>From</Field.Label>
          <Input
            autoFocus
            autoComplete="off"
            fontFamily="mono"
            fontSize="sm"
            list="host-sets"
            placeholder="address, network or @set"
            {...register('from', { required: true })}
          />
          {!list.set && (
            <datalist id="host-sets">
              {sets.data?.map((s) => (
                <option key={s.name} value={`@${s.name}`} label={s.description} />
              ))}
            </datalist>
          )}
        </Field.Root>
        {!isSet && (
          <>
            <Field.Root w="36">
              <Field.Label>Access</Field.Label>
              <Pick {...register('access')}>
                <option value="ro">read-only</option>
                <option value="rw">read-write</option>
              </Pick>
            </Field.Root>
            <Field.Root w="36">
              <Field.Label>Squash</Field.Label>
              <Pick {...register('squash')}>
                <option value="root">root</option>
                <option value="all">all</option>
                <option value="none">none</option>
              </Pick>
            </Field.Root>
            <Field.Root w="32">
              <Field.Label>Anonymous uid</Field.Label>
              <Input inputMode="numeric" {...register('anonUid', numbered)} />
            </Field.Root>
            <Field.Root w="24">
              <Field.Label>and gid</Field.Label>
              <Input inputMode="numeric" {...register('anonGid', numbered)} />
            </Field.Root>
            <Field.Root w="36">
              <Field.Label>Unknown uids</Field.Label>
              <Pick {...register('unknown')}>
                <option value="refused">refused</option>
                <option value="anonymous">anonymous</option>
                <option value="number">by number</option>
              </Pick>
            </Field.Root>
          </>
        )}
      </Flex>
      <HStack mt="4" justify="space-between" wrap="wrap">
        {isSet ? (
          <Text color="faint" fontSize="sm">
            The rules of the host set stand in its place, and say on what terms.
          </Text>
        ) : (
          <Checkbox.Root size="sm">
            <Checkbox.HiddenInput {...register('privilegedPort')} />
            <Checkbox.Control />
            <Checkbox.Label>only from source ports below 1024</Checkbox.Label>
          </Checkbox.Root>
        )}
        <HStack>
          <QuietButton size="sm" onClick={onDone}>
            Cancel
          </QuietButton>
          <MainButton size="sm" type="submit" loading={save.isPending}>
            {rule ? 'Save' : 'Add client rule'}
          </MainButton>
        </HStack>
      </HStack>
      <Confirm
        title="Let everyone in?"
        act="Let everyone in"
        open={knowing !== null}
        busy={save.isPending}
        onClose={() => setKnowing(null)}
        onAct={() => knowing && save.mutate({ f: knowing, everyone: true })}
      >
        <Text>{save.error?.message}</Text>
      </Confirm>
    </Box>
  );
}
