import { Field, Flex, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Change, taken, type User } from '../api/client';
import { Ask } from './confirm';
import { afterLastDay } from './day';
import { Previewed } from './effect';
import { Picker } from './picker';
import { MainButton, Refused, Waiting } from './sheet';
import { DataTable } from './table';

/** Somebody leaves: what they have, and what becomes of it, before it is done. */
export function Leaving({ user, onClose }: { user: User; onClose: () => void }) {
  const [to, setTo] = useState('');
  const [on, setOn] = useState('');
  const [files, setFiles] = useState<'stay' | 'pass' | 'hold'>('stay');
  const [hold, setHold] = useState('');
  const [until, setUntil] = useState('');
  const [asking, setAsking] = useState<Change[] | null>(null);
  const body = {
    ...(to && { to }),
    ...(on && { on: afterLastDay(on) }),
    ...(to && files === 'pass' && { files: true }),
    ...(files === 'hold' && hold && { hold, ...(until && { until: afterLastDay(until) }) }),
  };
  const plan = useQuery({
    queryKey: ['leaving', user.name, body],
    queryFn: () =>
      taken(api.POST('/api/v1/users/{name}/leaving/read', { params: { path: { name: user.name } }, body })),
    placeholderData: (before) => before,
  });
  if (asking)
    return (
      <Previewed
        title={t`${user.name} leaves?`}
        act={t`Have them leave`}
        changes={asking}
        done={on ? t`${user.name} will leave.` : t`${user.name} has left.`}
        onClose={() => setAsking(null)}
        onDone={onClose}
      />
    );
  return (
    <Ask
      wide
      title={t`${user.name} leaves`}
      open
      onClose={onClose}
      act={
        <MainButton
          disabled={!plan.data || !!plan.error || (files === 'hold' && !hold)}
          onClick={() => setAsking([{ kind: 'user', act: 'leave', of: { name: user.name }, with: body }])}
        >
          <Trans>See what it does</Trans>
        </MainButton>
      }
    >
      <Stack gap="4">
        <Flex gap="4" wrap="wrap" align="end">
          <Field.Root w="200px">
            <Field.Label>
              <Trans>Last day</Trans>
            </Field.Label>
            <Input type="date" value={on} onChange={(e) => setOn(e.target.value)} />
            <Field.HelperText>
              <Trans>At once, if left empty.</Trans>
            </Field.HelperText>
          </Field.Root>
          <Field.Root w="220px">
            <Field.Label>
              <Trans>Succeeded by</Trans>
            </Field.Label>
            <Picker of="user" inDialog value={to} placeholder={t`nobody`} onChange={setTo} />
            <Field.HelperText>
              <Trans>Entries and ownership pass to them.</Trans>
            </Field.HelperText>
          </Field.Root>
          <Field.Root w="240px">
            <Field.Label>
              <Trans>What they own on disk</Trans>
            </Field.Label>
            <NativeSelect.Root>
              <NativeSelect.Field value={files} onChange={(e) => setFiles(e.target.value as typeof files)}>
                <option value="stay">
                  <Trans>stays where it is</Trans>
                </option>
                <option value="pass" disabled={!to}>
                  <Trans>passes to {to || t`the successor`}</Trans>
                </option>
                <option value="hold">
                  <Trans>is kept in a folder</Trans>
                </option>
              </NativeSelect.Field>
              <NativeSelect.Indicator />
            </NativeSelect.Root>
            <Field.HelperText>
              <Trans>That is a job.</Trans>
            </Field.HelperText>
          </Field.Root>
          {files === 'hold' && (
            <>
              <Field.Root w="200px">
                <Field.Label>
                  <Trans>Kept in</Trans>
                </Field.Label>
                <Picker of="folder" inDialog value={hold} placeholder={t`folder`} onChange={setHold} />
                <Field.HelperText>
                  <Trans>In a directory of their name.</Trans>
                </Field.HelperText>
              </Field.Root>
              <Field.Root w="200px">
                <Field.Label>
                  <Trans>Until</Trans>
                </Field.Label>
                <Input type="date" value={until} onChange={(e) => setUntil(e.target.value)} />
                <Field.HelperText>
                  <Trans>For good, if left empty.</Trans>
                </Field.HelperText>
              </Field.Root>
            </>
          )}
        </Flex>
        {plan.error && <Refused error={plan.error} />}
        {!plan.data ? (
          <Waiting error={null} rows={2} />
        ) : (
          <DataTable
            rows={plan.data.partings}
            rowKey={(p) => `${p.what} ${p.where}`}
            maxH="300px"
            columns={[
              { head: t`What`, cell: (p) => p.what },
              { head: t`Where`, cell: (p) => p.where, is: { whiteSpace: 'normal' } },
              { head: t`Becomes`, cell: (p) => p.becomes, is: { whiteSpace: 'normal' } },
            ]}
          />
        )}
        <Text color="faint" fontSize="sm">
          <Trans>
            The record stays, and with it the number. It can be taken back, but for what was passed on or moved on disk.
          </Trans>
        </Text>
      </Stack>
    </Ask>
  );
}
