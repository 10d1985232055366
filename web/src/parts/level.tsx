import { Box, HStack, Text } from '@chakra-ui/react';
import type { Level as Name } from '../api/client';
import { levels } from '../api/client';

/** How far a level reaches, as five bars and a word. A refusal is barred and says so. */
export function Level({ level, deny }: { level: Name; deny?: boolean }) {
  const reach = levels.findIndex((l) => l.level === level);
  return (
    <HStack gap="2.5" title={levels[reach]?.means} as="span" display="inline-flex" verticalAlign="middle">
      <HStack gap="0.5" aria-hidden>
        {levels.map((l, i) => (
          <Box
            key={l.level}
            w="1.5"
            h="4"
            borderRadius="1px"
            bg={(deny ? i >= reach : i <= reach) ? (deny ? 'shut' : 'accent') : 'sunk'}
          />
        ))}
      </HStack>
      <Text as="span">{level}</Text>
    </HStack>
  );
}
