import {
  Alert,
  Box,
  type BoxProps,
  Button,
  type ButtonProps,
  Flex,
  Heading,
  Skeleton,
  Stack,
  Text,
} from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { type ComponentProps, type ReactNode, useEffect } from 'react';
import { Refusal } from '../api/client';

/** A raised sheet of paper: what belongs together. */
export const Sheet = (props: ComponentProps<typeof Box>) => (
  <Box bg="sheet" borderWidth="1px" borderColor="line" borderRadius="lg" overflow="hidden" {...props} />
);

/** A sheet of a page under a heading, with what can be done about all of it beside that. */
export const Part = ({ title, act, children, ...rest }: BoxProps & { title: string; act?: ReactNode }) => (
  <Sheet as="section" aria-label={title} {...rest}>
    <Flex px="5" py="3" justify="space-between" align="center" bg="sunk" gap="3">
      <Text as="h2" fontWeight="700">
        {title}
      </Text>
      {act}
    </Flex>
    {children}
  </Sheet>
);

export function PageHead({ title, text, children }: { title: string; text?: ReactNode; children?: ReactNode }) {
  useEffect(() => {
    document.title = `${title} – Amber Gatekeeper`;
  }, [title]);
  return (
    <Stack direction={{ base: 'column', md: 'row' }} justify="space-between" align={{ md: 'end' }} mb="6" gap="4">
      <Box>
        <Heading as="h1" fontSize="3xl" lineHeight="1.15" letterSpacing="-0.02em" fontWeight="700">
          {title}
        </Heading>
        {text && (
          <Text color="faint" mt="1.5">
            {text}
          </Text>
        )}
      </Box>
      <Box css={{ '& > div': { flexWrap: 'wrap' } }}>{children}</Box>
    </Stack>
  );
}

export const MainButton = (props: ButtonProps) => (
  <Button bg="accent" color="accent.on" _hover={{ opacity: 0.88 }} fontWeight="600" {...props} />
);

export const QuietButton = (props: ButtonProps) => (
  <Button variant="outline" borderColor="line" color="ink" _hover={{ bg: 'sunk' }} {...props} />
);

/** While data is on its way, and when it does not come. */
export function Waiting({ error, rows = 4 }: { error: Error | null; rows?: number }) {
  if (!error)
    return (
      <Stack gap="3" aria-busy aria-label={t`Loading`}>
        {Array.from({ length: rows }, (_, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: the rows are all alike
          <Skeleton key={i} h="12" css={{ '--start-color': 'colors.sunk', '--end-color': 'colors.line' }} />
        ))}
      </Stack>
    );
  return <Refused error={error} />;
}

export function Refused({ error }: { error: Error }) {
  return (
    <Alert.Root status="error" bg="shut.soft" color="ink">
      <Alert.Indicator color="shut" />
      <Alert.Content>
        <Alert.Title>{error.message}</Alert.Title>
        {error instanceof Refusal && error.next && (
          <Alert.Description>
            <Trans>Next: {error.next}</Trans>
          </Alert.Description>
        )}
      </Alert.Content>
    </Alert.Root>
  );
}

/** Something known of what a page is about, under its name. */
export function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <Box>
      <Text fontSize="xs" color="faint" fontWeight="600" textTransform="uppercase" letterSpacing="0.06em" mb="1">
        {name}
      </Text>
      <Box>{children}</Box>
    </Box>
  );
}
