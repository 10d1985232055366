import { Box, Flex, Heading, Input, Text } from '@chakra-ui/react';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, levels, taken } from '../api/client';
import { useSettled } from '../api/find';
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
          {first.path}: {first.total === 1 ? '1 person' : `${first.total} people`}
        </Heading>
        <Flex gap="3">
          <Input
            aria-label="Only names that hold"
            placeholder="name"
            size="sm"
            w="36"
            value={narrow.name}
            onChange={(e) => setNarrow({ ...narrow, name: e.target.value })}
          />
          <Box w="40">
            <Pick
              aria-label="At least the level"
              value={narrow.level}
              onChange={(e) => setNarrow({ ...narrow, level: e.target.value })}
            >
              <option value="">any level</option>
              {levels.map((l) => (
                <option key={l.level} value={l.level}>
                  at least {l.level}
                </option>
              ))}
            </Pick>
          </Box>
        </Flex>
      </Flex>
      <Sheet>
        {first.total === 0 ? (
          <Text px="4" py="3" color="faint">
            Nobody.
          </Text>
        ) : (
          <DataTable
            label={`Who may do what on ${first.path}`}
            rows={holders}
            rowKey={(h) => h.user}
            onEnd={who.hasNextPage && !who.isFetchingNextPage ? who.fetchNextPage : undefined}
            columns={[
              {
                head: 'User',
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
              { head: 'Level', cell: (h) => <Both level={h.level} /> },
              { head: 'Through', cell: (h) => h.through, is: { color: 'faint', whiteSpace: 'normal' } },
              {
                head: '-Why',
                cell: (h) => (
                  <Link to={`/why?user=${encodeURIComponent(h.user)}&path=${encodeURIComponent(first.path)}`}>
                    <Text as="span" color="accent">
                      why
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
