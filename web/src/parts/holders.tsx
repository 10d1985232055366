import { Box, Flex, Heading, Input, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, levels, taken } from '../api/client';
import { useSettled } from '../api/find';
import { people } from './effect';
import { Both } from './level';
import { Pick } from './pick';
import { Refused, Sheet, Waiting } from './sheet';
import { DataTable } from './table';

const page = 200;

/** Everybody who may do something to a path, and through what. */
export function Holders({ path }: { path: string }) {
  const [narrow, setNarrow] = useState({ name: '', level: '' });
  const asked = useSettled({ path, ...narrow }, 200);
  const who = useInfiniteQuery({
    queryKey: ['who', asked],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) =>
      taken(
        api.GET('/api/v1/who', {
          params: {
            query: {
              path: asked.path,
              limit: page,
              offset: pageParam,
              ...(asked.name && { name: asked.name }),
              ...(asked.level && { level: asked.level as 'read' }),
            },
          },
        }),
      ),
    getNextPageParam: (last, all) => {
      const have = all.reduce((n, p) => n + p.holders.length, 0);
      return have < last.total && last.holders.length > 0 ? have : undefined;
    },
  });
  if (who.error) return <Refused error={who.error} />;
  const first = who.data?.pages[0];
  if (!first) return <Waiting error={null} />;
  const holders = who.data?.pages.flatMap((p) => p.holders) ?? [];
  return (
    <>
      <Flex justify="space-between" align="end" gap="4" wrap="wrap" mb="3">
        <Heading as="h2" fontSize="lg" wordBreak="break-word">
          {first.path}: {people(first.total)}
        </Heading>
        <Flex gap="3">
          <Input
            aria-label={t`Only names that hold`}
            placeholder={t`name`}
            size="sm"
            w="36"
            value={narrow.name}
            onChange={(e) => setNarrow({ ...narrow, name: e.target.value })}
          />
          <Box w="40">
            <Pick
              aria-label={t`At least the level`}
              value={narrow.level}
              onChange={(e) => setNarrow({ ...narrow, level: e.target.value })}
            >
              <option value="">
                <Trans>any level</Trans>
              </option>
              {levels.map((l) => (
                <option key={l.level} value={l.level}>
                  <Trans>at least {l.level}</Trans>
                </option>
              ))}
            </Pick>
          </Box>
        </Flex>
      </Flex>
      <Sheet>
        {first.total === 0 ? (
          <Text px="4" py="3" color="faint">
            <Trans>Nobody.</Trans>
          </Text>
        ) : (
          <DataTable
            label={t`Who may do what on ${first.path}`}
            rows={holders}
            rowKey={(h) => h.user}
            onEnd={who.hasNextPage && !who.isFetchingNextPage ? who.fetchNextPage : undefined}
            columns={[
              {
                head: t`User`,
                cell: (h) => (
                  <Link to={`/who?user=${encodeURIComponent(h.user)}`}>
                    <Text as="span" fontWeight="600">
                      {h.user}
                    </Text>{' '}
                    <Text as="span" color="faint">
                      {h.name}
                    </Text>
                  </Link>
                ),
              },
              { head: t`Level`, cell: (h) => <Both level={h.level} /> },
              { head: t`Through`, cell: (h) => h.through, is: { color: 'faint', whiteSpace: 'normal' } },
              {
                head: `-${t`Why`}`,
                cell: (h) => (
                  <Link to={`/why?user=${encodeURIComponent(h.user)}&path=${encodeURIComponent(first.path)}`}>
                    <Text as="span" color="accent">
                      <Trans>why</Trans>
                    </Text>
                  </Link>
                ),
                is: { textAlign: 'end' },
              },
            ]}
          />
        )}
      </Sheet>
    </>
  );
}
