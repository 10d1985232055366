import { Alert } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';

/** Says that a volume is not where it should be, and what that means. */
export function Away({ volume, why }: { volume?: string; why: string }) {
  return (
    <Alert.Root status="error" bg="shut.soft" color="ink" mb="6" role="alert">
      <Alert.Indicator color="shut" />
      <Alert.Content>
        <Alert.Title>{volume ? t`Volume ${volume} is away` : t`The volume is away`}</Alert.Title>
        <Alert.Description>
          <Trans>
            {why.charAt(0).toUpperCase() + why.slice(1)}. Everybody is answered with an error, and nothing is written
            there, until it is back. That is noticed by itself.
          </Trans>
        </Alert.Description>
      </Alert.Content>
    </Alert.Root>
  );
}
