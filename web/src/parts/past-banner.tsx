import { Flex, Text } from '@chakra-ui/react';
import { Trans } from '@lingui/react/macro';
import { lookAt, usePast } from '../api/past';
import { Moment } from './moment';
import { QuietButton } from './sheet';

/** Says that the past is looked at, and leads back. */
export function PastBanner() {
  const past = usePast();
  if (!past) return null;
  return (
    <Flex
      role="status"
      position="sticky"
      top="0"
      zIndex="banner"
      bg="accent"
      color="accent.on"
      px="5"
      py="2"
      gap="4"
      align="center"
      justify="center"
      wrap="wrap"
    >
      <Text fontWeight="600">
        <Trans>
          As of <Moment at={past} />: who had what then. Nothing can be changed here.
        </Trans>
      </Text>
      <QuietButton size="sm" bg="sheet" onClick={() => lookAt(null)}>
        <Trans>Back to now</Trans>
      </QuietButton>
    </Flex>
  );
}
