import { HStack, Text } from '@chakra-ui/react';
import { EveryoneIcon, PeopleIcon, PersonIcon } from './icons';

/** A user, a group, or one of owner@, group@ and everyone@. */
export function Principal({ kind, name }: { kind: string; name: string }) {
  const Drawn = kind === 'user' ? PersonIcon : kind === 'group' ? PeopleIcon : EveryoneIcon;
  return (
    <HStack gap="2" as="span" display="inline-flex" verticalAlign="middle">
      <Drawn color="faint" boxSize="4.5" />
      <Text as="span" fontWeight="600">
        {name}
      </Text>
      <Text as="span" srOnly>
        ({kind})
      </Text>
    </HStack>
  );
}
