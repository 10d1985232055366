import { Box, Field, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { plural, t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { i18n } from '#texts';
import { api, type Sized, taken } from '../api/client';
import { MainButton, QuietButton, Refused, Sheet } from './sheet';
import { DataTable } from './table';
import { size } from './use';

/** What takes most room in a folder, or below a path of it. The look for it goes on by itself. */
export function Largest({ folder, mayLook }: { folder: string; mayLook: boolean }) {
  const [below, setBelow] = useState('');
  const [id, setId] = useState(0);
  const look = useMutation({
    mutationFn: (path: string) => taken(api.POST('/api/v1/use/largest', { body: { path, top: 20 } })),
    onSuccess: (w) => setId(w.id),
  });
  const work = useQuery({
    queryKey: ['work', id],
    enabled: id > 0,
    refetchInterval: (q) => (q.state.data?.over ? false : 500),
    queryFn: () => taken(api.GET('/api/v1/jobs/{id}', { params: { path: { id } } })),
  });
  const stop = useMutation({
    mutationFn: () => taken(api.DELETE('/api/v1/jobs/{id}', { params: { path: { id } } })),
  });
  const going = id > 0 && !work.data?.over && !work.error;
  const found = work.data?.largest;
  if (!mayLook)
    return (
      <Text color="faint">
        <Trans>An administrator can look for what takes most room here.</Trans>
      </Text>
    );
  return (
    <Stack gap="5">
      <HStack gap="3" align="end">
        <Field.Root w="80">
          <Field.Label>
            <Trans>Below (empty: all of the folder)</Trans>
          </Field.Label>
          <Input
            autoComplete="off"
            fontFamily="mono"
            fontSize="sm"
            value={below}
            onChange={(e) => setBelow(e.target.value)}
          />
        </Field.Root>
        <MainButton
          loading={look.isPending || going}
          onClick={() => look.mutate([folder, below.trim().replace(/^\/+/, '')].filter(Boolean).join('/'))}
        >
          <Trans>Look for the largest</Trans>
        </MainButton>
        {going && (
          <QuietButton onClick={() => stop.mutate()}>
            <Trans>Stop</Trans>
          </QuietButton>
        )}
      </HStack>
      {(look.error ?? work.error ?? stop.error) && (
        <Refused error={(look.error ?? work.error ?? stop.error) as Error} />
      )}
      {work.data && !found && (
        <Text color="faint" aria-live="polite">
          {work.data.over
            ? t`It ended early: ${work.data.error ?? ''}.`
            : t`${i18n.number(work.data.done)} files and directories so far.`}
        </Text>
      )}
      {found && (
        <>
          <Text>
            <Trans>
              <b>{size(found.usedBytes)}</b> in {i18n.number(found.usedFiles)} files, directories and links.
              {found.unread
                ? ` ${plural(found.unread, { one: '# directory could not be read.', other: '# directories could not be read.' })}`
                : ''}
            </Trans>
          </Text>
          <Sizes title={t`Directories, with all below`} list={found.directories} of={found.usedBytes} />
          <Sizes title={t`Files`} list={found.files} of={found.usedBytes} />
        </>
      )}
    </Stack>
  );
}

function Sizes({ title, list, of }: { title: string; list: Sized[]; of: number }) {
  if (list.length === 0) return null;
  return (
    <Sheet as="section" aria-label={title}>
      <DataTable
        rows={list}
        rowKey={(s) => s.path}
        columns={[
          { head: title, cell: (s) => s.path, is: { fontFamily: 'mono', fontSize: 'sm', wordBreak: 'break-all' } },
          { head: t`Takes`, cell: (s) => size(s.usedBytes), by: (s) => s.usedBytes, is: { whiteSpace: 'nowrap' } },
          { head: t`Files`, cell: (s) => i18n.number(s.usedFiles), by: (s) => s.usedFiles },
          {
            head: `-${t`Part of all`}`,
            cell: (s) => (
              <Box bg="sunk" borderRadius="full" h="2" overflow="hidden">
                <Box bg="accent" h="full" w={`${of > 0 ? Math.round((s.usedBytes / of) * 100) : 0}%`} />
              </Box>
            ),
            is: { w: '40' },
          },
        ]}
      />
    </Sheet>
  );
}
