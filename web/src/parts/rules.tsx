import { Box, Field, Flex, HStack, IconButton, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import type { Change, ClientRule } from '../api/client';
import { Previewed, useAsk } from './effect';
import { Entry, FormEnd } from './form';
import { AddIcon, DownIcon, EditIcon, RemoveIcon, UpIcon } from './icons';
import { Pick } from './pick';
import { PickerField } from './picker';
import { QuietButton } from './sheet';
import { Tick } from './tick';

/** Whose client rules they are: an export's, by its path, or a host set's. */
export type RuleList = { export: string; set?: undefined } | { set: string; export?: undefined };

/** An export's path as it stands in a route: the slash in front says nothing. */
export const named = (path: string) => path.replace(/^\//, '');

/** What a list's rules are called in a change, and the list. */
const rulesOf = (l: RuleList) =>
  l.set !== undefined
    ? { kind: 'host set rule' as const, name: l.set }
    : { kind: 'export rule' as const, name: named(l.export) };

/** Client rules in their order: the first that matches decides. Lines are the same as in force. */
export function Rules(props: { list: RuleList; rules: ClientRule[]; inForce?: ClientRule[]; mayChange: boolean }) {
  const [adding, setAdding] = useState(false);
  const { list, rules, inForce, mayChange } = props;
  return (
    <>
      {rules.length === 0 && !adding && (
        <Text px="4" py="3" color="faint">
          <Trans>No client rules: nobody may mount it.</Trans>
        </Text>
      )}
      <Stack as="ol" gap="0" listStyleType="none" aria-label={t`Client rules, the first that matches decides`}>
        {rules.map((r, i) => (
          <RuleRow
            key={r.id}
            list={list}
            rule={r}
            place={i + 1}
            last={i === rules.length - 1}
            inForce={(inForce ?? []).filter((l) =>
              r.from.startsWith('@') ? l.set === r.from.slice(1) : l.id === r.id,
            )}
            mayChange={mayChange}
          />
        ))}
      </Stack>
      {adding && <RuleForm list={list} onDone={() => setAdding(false)} />}
      {mayChange && !adding && (
        <Box px="4" py="3" borderTopWidth={rules.length ? '1px' : '0'} borderColor="line">
          <QuietButton size="sm" onClick={() => setAdding(true)}>
            <AddIcon /> <Trans>Add client rule</Trans>
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
  inForce: ClientRule[];
  mayChange: boolean;
}) {
  const { list, rule, place, last, inForce, mayChange } = props;
  const [editing, setEditing] = useState(false);
  const [setAsking, dialog] = useAsk(
    <Text>
      <Trans>
        What <b>{rule.from}</b> has mounted is decided by the rules as they are then, from the next request on.
      </Trans>
    </Text>,
  );
  const set = rule.from.startsWith('@');
  const { kind, name } = rulesOf(list);
  const move = (position: number) =>
    setAsking({
      title: t`Move this client rule?`,
      act: t`Move`,
      done: t`Moved: ${rule.from}.`,
      changes: [{ kind, act: 'move', of: { name, id: rule.id }, with: { position } }],
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
        {inForce[0]?.number ?? place}.
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
              title={rule.write ? t`read-write` : t`read-only`}
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
          inForce.map((l) => (
            <Text key={l.number} color="faint" fontSize="sm">
              {l !== inForce[0] && `${l.number}. `}
              <Text as="span" fontFamily="mono" fontSize="xs">
                {l.from}
              </Text>{' '}
              {l.terms}
            </Text>
          ))}
        {rule.everyone && (
          <Warning>
            <Trans>It lets in every host that can reach this gateway.</Trans>
          </Warning>
        )}
        {inForce
          .filter((l) => l.shadowedBy)
          .map((l) => (
            <Warning key={l.number}>
              <Trans>
                {set ? t`${l.from} never applies` : t`It never applies`}: number {l.shadowedBy} matches all that it
                does, and comes first.
              </Trans>
            </Warning>
          ))}
      </Box>
      {mayChange && (
        <HStack gap="0" flexShrink="0">
          <Act label={t`Move ${rule.from} up`} off={place === 1} onClick={() => move(place - 1)}>
            <UpIcon />
          </Act>
          <Act label={t`Move ${rule.from} down`} off={last} onClick={() => move(place + 1)}>
            <DownIcon />
          </Act>
          <Act label={t`Change ${rule.from}`} off={set} onClick={() => setEditing(true)}>
            <EditIcon />
          </Act>
          <Act
            label={t`Remove ${rule.from}`}
            shut
            onClick={() =>
              setAsking({
                title: t`Remove this client rule?`,
                act: t`Remove`,
                done: t`Removed: ${rule.from}.`,
                changes: [{ kind, act: 'remove', of: { name, id: rule.id } }],
              })
            }
          >
            <RemoveIcon />
          </Act>
          {dialog}
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

const numbered = {
  setValueAs: (typed: string | number) => (/^\d+$/.test(String(typed).trim()) ? Number(typed) : Number.NaN),
  validate: (n: number) => (n >= 0 && n <= 4294967294) || t`A number up to 4294967294.`,
};

function RuleForm({ list, rule, onDone }: { list: RuleList; rule?: ClientRule; onDone: () => void }) {
  const { register, control, handleSubmit, formState, watch } = useForm<Form>({
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
  const [asking, setAsking] = useState<Form | null>(null);
  const request = (f: Form, everyone: boolean): Change => {
    const { access, from: typed, ...terms } = f;
    const { kind, name } = rulesOf(list);
    const from = typed.trim();
    const body = from.startsWith('@') ? { from } : { ...terms, from, write: access === 'rw', everyone };
    return rule
      ? { kind, act: 'change', of: { name, id: rule.id }, with: body }
      : { kind, act: 'add', of: { name }, with: body };
  };
  return (
    <Box as="form" px="4" py="4" borderTopWidth="1px" borderColor="line" onSubmit={handleSubmit(setAsking)}>
      <Flex gap="3" wrap="wrap" align="end">
        <Field.Root flex="1" minW="56" invalid={!!formState.errors.from}>
          <Field.Label>
            <Trans>From</Trans>
          </Field.Label>
          <PickerField
            of="host"
            mono
            autoFocus
            control={control}
            name="from"
            placeholder={t`address, network or @set`}
            rules={{ required: true }}
          />
        </Field.Root>
        {!isSet && (
          <>
            <Field.Root w="36">
              <Field.Label>
                <Trans>Access</Trans>
              </Field.Label>
              <Pick {...register('access')}>
                <option value="ro">
                  <Trans>read-only</Trans>
                </option>
                <option value="rw">
                  <Trans>read-write</Trans>
                </option>
              </Pick>
            </Field.Root>
            <Field.Root w="36">
              <Field.Label>
                <Trans>Squash</Trans>
              </Field.Label>
              <Pick {...register('squash')}>
                <option value="root">
                  <Trans>root</Trans>
                </option>
                <option value="all">
                  <Trans>all</Trans>
                </option>
                <option value="none">
                  <Trans>none</Trans>
                </option>
              </Pick>
            </Field.Root>
            <Entry label={t`Anonymous uid`} w="32" error={formState.errors.anonUid}>
              <Input inputMode="numeric" {...register('anonUid', numbered)} />
            </Entry>
            <Entry label={t`and gid`} w="24" error={formState.errors.anonGid}>
              <Input inputMode="numeric" {...register('anonGid', numbered)} />
            </Entry>
            <Field.Root w="36">
              <Field.Label>
                <Trans>Unknown uids</Trans>
              </Field.Label>
              <Pick {...register('unknown')}>
                <option value="refused">
                  <Trans>refused</Trans>
                </option>
                <option value="anonymous">
                  <Trans>anonymous</Trans>
                </option>
                <option value="number">
                  <Trans>by number</Trans>
                </option>
              </Pick>
            </Field.Root>
          </>
        )}
      </Flex>
      <HStack mt="4" justify="space-between" wrap="wrap">
        {isSet ? (
          <Text color="faint" fontSize="sm">
            <Trans>The rules of the host set stand in its place, and say on what terms.</Trans>
          </Text>
        ) : (
          <Tick control={control} name="privilegedPort" text={t`only from source ports below 1024`} />
        )}
        <HStack>
          <FormEnd onCancel={onDone} />
        </HStack>
      </HStack>
      <Previewed
        title={rule ? t`Change this client rule?` : t`Add this client rule?`}
        act={rule ? t`Save` : t`Add client rule`}
        changes={asking && [request(asking, false)]}
        knowing={asking ? { act: t`Let everyone in`, changes: [request(asking, true)] } : undefined}
        done={`${rule ? t`Changed` : t`Added`}: ${asking?.from}.`}
        onClose={() => setAsking(null)}
        onDone={onDone}
      />
    </Box>
  );
}
