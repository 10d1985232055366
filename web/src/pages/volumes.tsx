import { Box, Button, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { zodResolver } from '@hookform/resolvers/zod';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import { api, type Change, taken, useMe, useVolumes, type VolumeRoom } from '../api/client';
import { Away } from '../parts/away';
import { Counts, VolumePlace } from '../parts/counts';
import { type Asked, Previewed, useAsk } from '../parts/effect';
import { Entry, placeRefusal } from '../parts/form';
import { AddIcon, FolderIcon } from '../parts/icons';
import { AlterLabels } from '../parts/labels';
import { Pick } from '../parts/pick';
import { z } from '../parts/shape';
import { Fact, MainButton, PageHead, Part, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { size } from '../parts/use';

/** Directories of the host in which folders are made: their room, and how they are. */
export function Volumes() {
  const volumes = useVolumes();
  const me = useMe().data;
  const mayChange = me?.role === 'administrator';
  const [adding, setAdding] = useState(false);
  const [setAsking, dialog] = useAsk();
  if (!volumes.data) return <Waiting error={volumes.error} />;
  const none = volumes.data.length === 0;
  return (
    <>
      <PageHead title={t`Volumes`} text={t`Directories of this machine in which folders are made`}>
        {mayChange && !adding && !none && (
          <MainButton onClick={() => setAdding(true)}>
            <AddIcon /> <Trans>Add a volume</Trans>
          </MainButton>
        )}
      </PageHead>
      <Stack gap="5">
        {mayChange && (adding || none) && <AddVolume first={none} onDone={() => setAdding(false)} />}
        {none && !mayChange && (
          <Text color="faint">
            <Trans>There is none yet: an administrator adds one.</Trans>
          </Text>
        )}
        {volumes.data.map((v) => (
          <VolumeSheet key={v.name} volume={v} mayChange={mayChange} ask={setAsking} />
        ))}
      </Stack>
      {dialog}
    </>
  );
}

/** How full something is. */
export function Room({ total, free }: { total?: number; free?: number }) {
  if (total === undefined || free === undefined || total === 0)
    return (
      <Text color="faint">
        <Trans>not to be told now</Trans>
      </Text>
    );
  const used = Math.min(Math.max(1 - free / total, 0), 1);
  return (
    <Box minW="44">
      <Box
        h="3"
        borderRadius="sm"
        bg="sunk"
        overflow="hidden"
        role="img"
        aria-label={t`${size(free)} free of ${size(total)}`}
      >
        <Box h="full" w={`${used * 100}%`} bg={used > 0.95 ? 'shut' : used > 0.85 ? 'accent' : 'open'} />
      </Box>
      <Text fontSize="sm" mt="1">
        <Trans>
          {size(free)} free of {size(total)}
          {used > 0.95 && t`: nearly full`}
        </Trans>
      </Text>
    </Box>
  );
}

const counted: Record<string, string> = {
  size: t`sizes, as people see them`,
  allocated: t`the room taken on disk`,
  off: t`nothing: limits bind nobody there`,
};

function VolumeSheet({
  volume: v,
  mayChange,
  ask,
}: {
  volume: VolumeRoom;
  mayChange: boolean;
  ask: (a: Asked) => void;
}) {
  const [moving, setMoving] = useState(false);
  const [counts, setCounts] = useState(false);
  return (
    <Part
      title={v.name}
      act={
        mayChange &&
        v.folders.length === 0 && (
          <QuietButton
            size="sm"
            bg="sheet"
            onClick={() =>
              ask({
                title: t`Forget volume ${v.name}?`,
                act: t`Forget it`,
                done: t`Volume ${v.name} is forgotten; what is on it stays.`,
                changes: [{ kind: 'volume', act: 'remove', of: { name: v.name } }],
              })
            }
          >
            <Trans>Forget it</Trans>
          </QuietButton>
        )
      }
    >
      <Box p="5">
        {v.away && <Away why={v.away} volume={v.name} />}
        <Flex gap="7" wrap="wrap">
          <Fact name={t`Directory`}>
            <Text as="span" fontFamily="mono" fontSize="sm">
              {v.path}
            </Text>
          </Fact>
          <Fact name={t`Room`}>
            <Room total={v.totalBytes} free={v.freeBytes} />
          </Fact>
          <Fact name={t`Counted`}>
            {mayChange ? (
              <Pick
                aria-label={t`What is counted on ${v.name}`}
                value={v.counting}
                onChange={(e) =>
                  ask({
                    title: t`Count ${counted[e.target.value] ?? ''}?`,
                    act: t`Count so`,
                    done: t`On ${v.name} is counted: ${counted[e.target.value] ?? ''}.`,
                    changes: [
                      {
                        kind: 'volume',
                        act: 'change',
                        of: { name: v.name },
                        with: { counting: e.target.value as VolumeRoom['counting'] },
                      },
                    ],
                  })
                }
              >
                {Object.entries(counted).map(([name, text]) => (
                  <option key={name} value={name}>
                    {text}
                  </option>
                ))}
              </Pick>
            ) : (
              counted[v.counting]
            )}
          </Fact>
          <Fact name={t`Folders`}>
            {v.folders.length === 0
              ? t`none yet`
              : v.folders.map((f, i) => (
                  <Text as="span" key={f}>
                    {i > 0 && ', '}
                    <Link to={`/folders/${encodeURIComponent(f)}`}>
                      <Text as="span" textDecoration="underline" textDecorationColor="line">
                        {f}
                      </Text>
                    </Link>
                  </Text>
                ))}
          </Fact>
          <Fact name={t`Labels`}>
            <AlterLabels
              labels={v.labels}
              mayChange={mayChange}
              change={(labels) => ({ kind: 'volume', act: 'change', of: { name: v.name }, with: { labels } })}
            />
          </Fact>
        </Flex>
        {mayChange && !moving && (
          <HStack mt="4">
            <QuietButton size="sm" onClick={() => setMoving(true)}>
              {v.away ? t`It is elsewhere, or was replaced` : t`Another name or place`}
              <Text srOnly>
                <Trans>for volume {v.name}</Trans>
              </Text>
            </QuietButton>
            <QuietButton size="sm" aria-expanded={counts} onClick={() => setCounts(!counts)}>
              <Trans>
                How far it is counted
                <Text srOnly>: {v.name}</Text>
              </Trans>
            </QuietButton>
          </HStack>
        )}
        {moving && <VolumePlace volume={v} onDone={() => setMoving(false)} />}
        {counts && (
          <Box mt="4">
            <Counts volume={v.name} mayChange={mayChange} />
          </Box>
        )}
      </Box>
    </Part>
  );
}

const NewVolume = z.object({
  name: z.string().trim().min(1, t`A volume has a name, such as summit.`),
  path: z.string().trim().startsWith('/', t`Choose a directory, or write its path from / on.`),
});

/** A name for a directory of the host, which is chosen. */
export function AddVolume({ first, onDone }: { first?: boolean; onDone: (name: string) => void }) {
  const form = useForm<z.infer<typeof NewVolume>>({
    resolver: zodResolver(NewVolume),
    defaultValues: { name: '', path: '' },
  });
  const [asking, setAsking] = useState<Change[] | null>(null);
  const path = form.watch('path');
  return (
    <Sheet p="5">
      <form
        aria-label={t`A new volume`}
        onSubmit={form.handleSubmit((f) => setAsking([{ kind: 'volume', act: 'add', with: f }]))}
      >
        {first && (
          <Text mb="4">
            <Trans>
              Which directory of this machine is to hold the folders? Nothing that is in it is touched, and nobody gets
              to it before a folder is made and published.
            </Trans>
          </Text>
        )}
        <Directories
          at={path}
          onPick={(p, name) => {
            form.setValue('path', p, { shouldValidate: true });
            if (!form.getValues('name')) form.setValue('name', name);
          }}
        />
        <Flex gap="4" mt="4" wrap="wrap" align="start">
          <Entry label={t`Directory`} flex="2" minW="64" error={form.formState.errors.path}>
            <Input fontFamily="mono" fontSize="sm" autoComplete="off" {...form.register('path')} />
          </Entry>
          <Entry label={t`Name`} flex="1" minW="44" error={form.formState.errors.name}>
            <Input autoComplete="off" {...form.register('name')} />
          </Entry>
          <HStack pt="6">
            <MainButton type="submit">
              <Trans>Add it</Trans>
            </MainButton>
            {!first && (
              <QuietButton onClick={() => onDone('')}>
                <Trans>Leave it</Trans>
              </QuietButton>
            )}
          </HStack>
        </Flex>
      </form>
      <Previewed
        title={t`Add ${path} as a volume?`}
        act={t`Add it`}
        done={t`Volume ${form.getValues('name')} is added.`}
        changes={asking}
        onRefused={(e) => placeRefusal(e, form)}
        onClose={() => setAsking(null)}
        onDone={() => {
          setAsking(null);
          onDone(form.getValues('name'));
        }}
      />
    </Sheet>
  );
}

/** Directories of the host, to be gone through: what each may be, and what is known of where one is. */
function Directories({ at, onPick }: { at: string; onPick: (path: string, name: string) => void }) {
  const [where, setWhere] = useState('');
  const look = useQuery({
    queryKey: ['candidates', where],
    queryFn: () => taken(api.GET('/api/v1/volume-candidates', { params: { query: where ? { path: where } : {} } })),
    placeholderData: (before) => before,
    retry: false,
  });
  if (!look.data) return <Waiting error={look.error} rows={2} />;
  const d = look.data;
  return (
    <Box borderWidth="1px" borderColor="line" borderRadius="md" overflow="hidden">
      <Flex px="4" py="2.5" bg="sunk" gap="3" align="center" wrap="wrap">
        {d.up !== undefined && (
          <QuietButton size="xs" bg="sheet" onClick={() => setWhere(d.up ?? '')}>
            <Trans>Up</Trans>
          </QuietButton>
        )}
        <Text fontFamily="mono" fontSize="sm" fontWeight="600">
          {d.path || t`Where volumes may be`}
        </Text>
        {d.freeBytes !== undefined && (
          <Text color="faint" fontSize="sm">
            <Trans>
              {d.fileSystem}, {size(d.freeBytes)} free
            </Trans>
          </Text>
        )}
        <Box flex="1" />
        {d.path && !d.wrong && (
          <QuietButton size="xs" bg="sheet" onClick={() => onPick(d.path, d.name)}>
            <Trans>Take this one</Trans>
          </QuietButton>
        )}
      </Flex>
      {look.error && <Refused error={look.error} />}
      {d.mind && (
        <Text px="4" py="2" bg="accent.soft" fontSize="sm" role="note">
          <Trans>Mind: {d.mind}.</Trans>
        </Text>
      )}
      <DataTable
        maxH="240px"
        rows={d.below}
        rowKey={(b) => b.path}
        chosen={(b) => at === b.path}
        columns={[
          {
            head: t`Directory`,
            cell: (b) => (
              <Button variant="plain" size="sm" px="0" color="ink" fontWeight="500" onClick={() => setWhere(b.path)}>
                <FolderIcon color="faint" /> {b.name}
              </Button>
            ),
          },
          {
            head: t`May be a volume`,
            cell: (b) => (b.wrong ? t`no: ${b.wrong}` : t`yes`),
            is: (b) => ({ color: b.wrong ? 'faint' : undefined, whiteSpace: 'normal' }),
          },
          {
            head: `-${t`Choose`}`,
            cell: (b) =>
              !b.wrong && (
                <QuietButton size="xs" aria-pressed={at === b.path} onClick={() => onPick(b.path, b.name)}>
                  {at === b.path ? t`Chosen` : t`Choose`}
                  <Text srOnly>{b.path}</Text>
                </QuietButton>
              ),
            is: { textAlign: 'end' },
          },
        ]}
      />
      {d.below.length === 0 && (
        <Text px="4" py="3" color="faint">
          <Trans>No directories are in it.</Trans>
        </Text>
      )}
      {d.more && (
        <Text px="4" py="2" color="faint" fontSize="sm">
          <Trans>There are more: write the path of the one that you mean.</Trans>
        </Text>
      )}
    </Box>
  );
}
