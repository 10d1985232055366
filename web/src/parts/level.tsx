import { Box, HStack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { type Levels, levels } from '../api/client';

const contains: Record<string, string[]> = {
  nothing: [],
  pass: ['pass'],
  read: ['pass', 'read'],
  add: ['pass', 'add'],
  change: ['pass', 'read', 'add', 'change'],
  control: ['pass', 'read', 'add', 'change', 'control'],
};

/**
 * How far a level reaches, as five bars and a word: one bar for each level that is had. What a refusal
 * bars is drawn in its colour. What is no level is told in words alone.
 */
export function Level({ level, deny, more }: { level: string; deny?: boolean; more?: string }) {
  const names = level.split(' and ');
  if (names.some((n) => !contains[n]) || level === 'nothing')
    return (
      <Text as="span" color={level === 'nothing' ? 'faint' : undefined}>
        {level.replaceAll(',', ', ')}
      </Text>
    );
  const had = new Set(names.flatMap((n) => contains[n] ?? []));
  const barred = (name: string) => names.some((n) => contains[name]?.includes(n));
  return (
    <HStack
      gap="2.5"
      title={levels.find((l) => l.level === level)?.means}
      as="span"
      display="inline-flex"
      verticalAlign="middle"
    >
      <HStack gap="0.5" aria-hidden>
        {levels.map((l) => (
          <Box
            key={l.level}
            w="1.5"
            h="4"
            borderRadius="1px"
            bg={(deny ? barred(l.level) : had.has(l.level)) ? (deny ? 'shut' : 'accent') : 'sunk'}
          />
        ))}
      </HStack>
      <Text as="span">
        {level}
        {more && (
          <Text as="span" color="faint">
            {' '}
            {more}
          </Text>
        )}
      </Text>
    </HStack>
  );
}

/** One level where both protocols agree, both where they do not. */
export function Both({ level, smb = true, nfs = true }: { level: Levels; smb?: boolean; nfs?: boolean }) {
  if (level.smb === level.nfs || !nfs) return <Level level={level.smb} />;
  if (!smb) return <Level level={level.nfs} />;
  if (level.nfs === 'nothing') return <Level level={level.smb} more={t`over SMB`} />;
  if (level.smb === 'nothing') return <Level level={level.nfs} more={t`over NFS`} />;
  return <Text as="span">{level.text}</Text>;
}
