import { Box, HStack, Text } from '@chakra-ui/react';
import { levels } from '../api/client';

/** How far a level reaches, as five bars and a word; what is no one level is told in words alone. */
export function Level({ level, deny }: { level: string; deny?: boolean }) {
  const reach = levels.findIndex((l) => l.level === level);
  if (reach < 0)
    return (
      <Text as="span" color={level === 'nothing' ? 'faint' : undefined}>
        {level.replaceAll(',', ', ')}
      </Text>
    );
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
