import { Box, HStack, Input, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { type Change, client, make } from '../api/client';
import { QuietButton } from './sheet';
import { sayMade, sayRefused } from './toaster';

/** What a record is marked with; each mark leads to all that have it, where there is a list of them. */
export function Labels({ labels, list }: { labels?: Record<string, string>; list?: string }) {
  return (
    <HStack wrap="wrap" gap="1.5">
      {Object.entries(labels ?? {}).map(([key, value]) => {
        const text = `${key}=${value}`;
        return (
          <Box key={key} as="span" px="2" borderRadius="md" bg="sunk" fontSize="sm" whiteSpace="nowrap">
            {list ? <Link to={`${list}?label=${encodeURIComponent(text)}`}>{text}</Link> : text}
          </Box>
        );
      })}
    </HStack>
  );
}

/** The same, to be altered: KEY=VALUE puts a mark on, KEY= takes it away. */
export function AlterLabels(props: {
  labels?: Record<string, string>;
  list?: string;
  mayChange: boolean;
  change: (labels: Record<string, string>) => Change;
}) {
  const [text, setText] = useState('');
  const set = useMutation({
    mutationFn: (labels: Record<string, string>) => make([props.change(labels)]),
    onSuccess: (made) => {
      setText('');
      client.invalidateQueries();
      sayMade(t`The labels are changed.`, made.row);
    },
    onError: sayRefused,
  });
  const [key = '', ...rest] = text.split('=');
  return (
    <HStack wrap="wrap" gap="2">
      <Labels labels={props.labels} list={props.list} />
      {!props.mayChange && Object.keys(props.labels ?? {}).length === 0 && (
        <Text color="faint">
          <Trans>none</Trans>
        </Text>
      )}
      {props.mayChange && (
        <HStack
          as="form"
          gap="1"
          onSubmit={(e) => {
            e.preventDefault();
            set.mutate({ [key.trim()]: rest.join('=').trim() });
          }}
        >
          <Input
            size="xs"
            w="36"
            aria-label={t`Label, as KEY=VALUE`}
            placeholder={t`season=spring`}
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <QuietButton type="submit" size="xs" disabled={!text.includes('=') || set.isPending}>
            <Trans>Mark</Trans>
          </QuietButton>
        </HStack>
      )}
    </HStack>
  );
}
