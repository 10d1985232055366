import { Box, Button, Field, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import { change } from '../api/change';
import { api, type Change, client, taken } from '../api/client';
import { useSettled } from '../api/find';
import { Previewed } from './effect';
import { PlaceSheet } from './entries';
import { FolderIcon } from './icons';
import { Both } from './level';
import { Moment } from './moment';
import { useParamsOf } from './params';
import { Picker, PickerField } from './picker';
import { MainButton, QuietButton, Refused, Sheet, Waiting } from './sheet';
import { DataTable } from './table';
import { Tick } from './tick';
import { size } from './use';

const page = 500;

/** The directories and files of a folder by name: whose they are, what is written on them, and what somebody may do there. */
export function Browse({ folder, mayChange }: { folder: string; mayChange: boolean }) {
  const [params, alter] = useParamsOf();
  const within = params.get('in') ?? '';
  const user = params.get('user') ?? '';
  const [match, setMatch] = useState('');
  const [giving, setGiving] = useState<string | null>(null);
  const path = within ? `${folder}/${within}` : folder;
  const asked = useSettled({ path, user: user.trim(), match });
  const listed = useInfiniteQuery({
    queryKey: ['browse', asked],
    initialPageParam: '',
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) =>
      taken(
        api.GET('/api/v1/browse', {
          params: {
            query: {
              path: asked.path,
              limit: page,
              ...(asked.user && { user: asked.user }),
              ...(asked.match && { match: asked.match }),
              ...(pageParam && { after: pageParam }),
            },
          },
        }),
      ),
    getNextPageParam: (last) => (last.more ? last.below.at(-1)?.name : undefined),
  });
  const place = useQuery({
    queryKey: ['entries', path],
    queryFn: () => taken(api.GET('/api/v1/entries', { params: { query: { path } } })),
  });
  const go = (to: Record<string, string>) => {
    alter(to, 'user' in to);
    if ('in' in to) setMatch('');
    setGiving(null);
  };
  const steps = within ? within.split('/') : [];
  const first = listed.data?.pages[0];
  const all = listed.data?.pages.flatMap((p) => p.below) ?? [];
  const below = (name: string) => (within ? `${within}/${name}` : name);
  return (
    <Stack gap="4">
      <Flex gap="4" wrap="wrap" align="end">
        <Field.Root w={{ base: 'full', sm: '60' }}>
          <Field.Label>
            <Trans>Levels of</Trans>
          </Field.Label>
          <Picker of="user" value={user} placeholder={t`anybody`} onChange={(v) => go({ user: v.trim() })} />
        </Field.Root>
        <Field.Root w={{ base: 'full', sm: '60' }}>
          <Field.Label>
            <Trans>Only names that hold</Trans>
          </Field.Label>
          <Input value={match} autoComplete="off" onChange={(e) => setMatch(e.target.value)} />
        </Field.Root>
      </Flex>
      <HStack as="nav" aria-label={t`Where in the folder`} gap="1" wrap="wrap" fontFamily="mono" fontSize="sm">
        {[folder, ...steps].map((name, i) => (
          <HStack key={[folder, ...steps].slice(0, i + 1).join('/')} gap="1">
            {i > 0 && <Text color="faint">/</Text>}
            {i === steps.length ? (
              <Text fontWeight="600" aria-current="location">
                {name}
              </Text>
            ) : (
              <Button
                variant="plain"
                size="sm"
                px="0"
                h="auto"
                color="accent"
                fontFamily="mono"
                onClick={() => go({ in: steps.slice(0, i).join('/') })}
              >
                {name}
              </Button>
            )}
          </HStack>
        ))}
        {first?.level && (
          <Text fontFamily="body" ms="4">
            {first.user}: <Both level={first.level} />
          </Text>
        )}
      </HStack>
      {place.data && <PlaceSheet key={path} place={place.data} mayChange={mayChange} />}
      {giving !== null && <Give path={giving} onDone={() => setGiving(null)} />}
      {listed.error ? (
        <Refused error={listed.error} />
      ) : !first ? (
        <Waiting error={null} />
      ) : (
        <Sheet>
          {all.length === 0 ? (
            <Text px="4" py="3" color="faint">
              {asked.match ? t`Nothing there is called so.` : t`Nothing is in it.`}
            </Text>
          ) : (
            <DataTable
              label={t`What is in ${path}`}
              rows={all}
              rowKey={(b) => b.name}
              onEnd={listed.hasNextPage && !listed.isFetchingNextPage ? listed.fetchNextPage : undefined}
              columns={[
                {
                  head: t`Name`,
                  by: (b) => b.name,
                  cell: (b) =>
                    b.sort === 'directory' ? (
                      <Button
                        variant="plain"
                        size="sm"
                        px="0"
                        h="auto"
                        color="ink"
                        fontWeight="600"
                        whiteSpace="normal"
                        textAlign="start"
                        onClick={() => go({ in: below(b.name) })}
                      >
                        <FolderIcon color="accent" /> {b.name}
                      </Button>
                    ) : (
                      <Text ps="7">
                        {b.name}
                        {b.sort !== 'file' && (
                          <Text as="span" color="faint">
                            {' '}
                            {b.sort}
                          </Text>
                        )}
                      </Text>
                    ),
                  is: { wordBreak: 'break-word', whiteSpace: 'normal' },
                },
                { head: t`Owner`, by: (b) => b.owner, cell: (b) => b.owner },
                { head: t`Group`, by: (b) => b.group, cell: (b) => b.group, is: narrow, headIs: narrow },
                {
                  head: t`Mode`,
                  cell: (b) => b.mode,
                  is: { ...narrow, fontFamily: 'mono', fontSize: 'sm' },
                  headIs: narrow,
                },
                {
                  head: t`Size`,
                  by: (b) => b.size ?? 0,
                  cell: (b) => (b.sort === 'file' ? size(b.size ?? 0) : ''),
                  is: { textAlign: 'end', whiteSpace: 'nowrap' },
                  headIs: { textAlign: 'end' },
                },
                {
                  head: t`Changed`,
                  by: (b) => b.changed,
                  cell: (b) => <Moment at={b.changed} />,
                  is: narrow,
                  headIs: narrow,
                },
                {
                  head: t`Written on it`,
                  cell: (b) => [b.entries && `${b.entries}`, b.cut && t`inherits nothing`].filter(Boolean).join(', '),
                  is: { color: 'faint' },
                },
                ...(asked.user
                  ? [
                      {
                        head: asked.user,
                        cell: (b: (typeof all)[number]) =>
                          b.level && (
                            <HStack gap="3">
                              <Both level={b.level} />
                              <Link
                                to={`/why?user=${encodeURIComponent(asked.user)}&path=${encodeURIComponent(`${folder}/${below(b.name)}`)}`}
                              >
                                <Text as="span" color="accent" fontSize="sm">
                                  <Trans>why</Trans>
                                </Text>
                              </Link>
                            </HStack>
                          ),
                      },
                    ]
                  : []),
                ...(mayChange
                  ? [
                      {
                        head: `-${t`Give`}`,
                        cell: (b: (typeof all)[number]) =>
                          (b.sort === 'directory' || b.sort === 'file') && (
                            <QuietButton size="xs" onClick={() => setGiving(`${folder}/${below(b.name)}`)}>
                              <Trans>
                                Give
                                <Text srOnly>{b.name} to somebody</Text>
                              </Trans>
                            </QuietButton>
                          ),
                        is: { textAlign: 'end' as const },
                      },
                    ]
                  : []),
              ]}
            />
          )}
        </Sheet>
      )}
    </Stack>
  );
}

const narrow = { hideBelow: 'md' } as const;

/** Somebody becomes the owner of what is at a path, or of all that is below it as well. */
function Give({ path, onDone }: { path: string; onDone: () => void }) {
  const { control, handleSubmit } = useForm<{ owner: string; group: string; below: boolean }>({
    defaultValues: { owner: '', group: '', below: false },
  });
  const [asking, setAsking] = useState<Change[] | null>(null);
  return (
    <Sheet as="section" aria-label={t`Give ${path}`} p="4">
      <form
        onSubmit={handleSubmit((f) => {
          if (!f.owner.trim() && !f.group.trim()) return;
          setAsking([
            change('owner', 'set', {
              with: {
                path,
                ...(f.owner.trim() && { owner: f.owner.trim() }),
                ...(f.group.trim() && { group: f.group.trim() }),
                ...(f.below && { below: true }),
              },
            }),
          ]);
        })}
      >
        <Text fontWeight="600" mb="3">
          <Trans>
            Give{' '}
            <Text as="span" fontFamily="mono">
              {path}
            </Text>{' '}
            to
          </Trans>
        </Text>
        <Flex gap="3" wrap="wrap" align="end">
          <Field.Root w="56">
            <Field.Label>
              <Trans>Owner</Trans>
            </Field.Label>
            <PickerField of="user" control={control} name="owner" placeholder={t`as it is`} autoFocus />
          </Field.Root>
          <Field.Root w="56">
            <Field.Label>
              <Trans>Group</Trans>
            </Field.Label>
            <PickerField of="group" control={control} name="group" placeholder={t`as it is`} />
          </Field.Root>
          <Box pb="2">
            <Tick control={control} name="below" text={t`and all that is below it`} />
          </Box>
          <QuietButton onClick={onDone}>
            <Trans>Cancel</Trans>
          </QuietButton>
          <MainButton type="submit">
            <Trans>See what it does</Trans>
          </MainButton>
        </Flex>
      </form>
      <Previewed
        title={t`Give ${path}?`}
        act={t`Give it`}
        changes={asking}
        done={t`${path} is given.`}
        onClose={() => setAsking(null)}
        onDone={() => {
          client.invalidateQueries({ queryKey: ['browse'] });
          onDone();
        }}
      />
    </Sheet>
  );
}
