import { Box, HStack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import type { Folder } from '../api/client';

/** One way in which a folder is published. */
function PublishedAs({ text, notes, on }: { text: string; notes: string; on: boolean }) {
  return (
    <HStack
      as="span"
      display="inline-flex"
      gap="1.5"
      px="2"
      py="0.5"
      borderRadius="full"
      borderWidth="1px"
      borderColor={on ? 'line' : 'shut'}
      fontSize="sm"
      whiteSpace="nowrap"
    >
      <Box boxSize="2" borderRadius="full" bg={on ? 'open' : 'shut'} aria-hidden />
      {text}
      {notes && <Text color="faint">{notes}</Text>}
      {!on && (
        <Text color="shut" fontWeight="600">
          <Trans>service off</Trans>
        </Text>
      )}
    </HStack>
  );
}

/** Every way in which a folder is published. */
export function Ways({ folder }: { folder: Folder }) {
  if (folder.shares.length + folder.exports.length === 0)
    return (
      <Text color="faint">
        <Trans>not published</Trans>
      </Text>
    );
  return (
    <HStack wrap="wrap" gap="1.5">
      {folder.shares.map((s) => (
        <PublishedAs
          key={s.name}
          text={t`SMB ${s.name}`}
          notes={[s.readOnly && 'read-only', !s.announced && 'hidden'].filter(Boolean).join(', ')}
          on={s.on}
        />
      ))}
      {folder.exports.map((e) => (
        <PublishedAs
          key={e.path}
          text={t`NFS ${e.path}`}
          notes={e.rules === 0 ? t`no client rules` : (e.below ?? '')}
          on={e.on}
        />
      ))}
    </HStack>
  );
}
