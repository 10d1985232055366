import { Box, Field, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
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
  if (!mayLook) return <Text color="faint">An administrator can look for what takes most room here.</Text>;
  return (
    <Stack gap="5">
      <HStack gap="3" align="end">
        <Field.Root w="80">
          <Field.Label>Below (empty: all of the folder)</Field.Label>
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
          Look for the largest
        </MainButton>
        {going && <QuietButton onClick={() => stop.mutate()}>Stop</QuietButton>}
      </HStack>
      {(look.error ?? work.error ?? stop.error) && (
        <Refused error={(look.error ?? work.error ?? stop.error) as Error} />
      )}
      {work.data && !found && (
        <Text color="faint" aria-live="polite">
          {work.data.over
            ? `It ended early: ${work.data.error}.`
            : `${work.data.done.toLocaleString('en')} files and directories so far.`}
        </Text>
      )}
      {found && (
        <>
          <Text>
            <b>{size(found.usedBytes)}</b> in {found.usedFiles.toLocaleString('en')} files, directories and links.
            {found.unread ? ` ${found.unread} directories could not be read.` : ''}
          </Text>
          <Sizes title="Directories, with all below" list={found.directories} of={found.usedBytes} />
          <Sizes title="Files" list={found.files} of={found.usedBytes} />
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
          { head: 'Takes', cell: (s) => size(s.usedBytes), by: (s) => s.usedBytes, is: { whiteSpace: 'nowrap' } },
          { head: 'Files', cell: (s) => s.usedFiles.toLocaleString('en'), by: (s) => s.usedFiles },
          {
            head: '-Part of all',
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
