import { Box, Stack } from '@chakra-ui/react';
import { type ReactNode, useState } from 'react';
import { QuietButton } from './sheet';

/** What is folded away until it is wanted. */
export function More({
  text,
  open: begins = false,
  children,
}: {
  text: ReactNode;
  open?: boolean;
  children: ReactNode;
}) {
  const [open, setOpen] = useState(begins);
  return (
    <Box>
      <QuietButton size="xs" aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? '−' : '+'} {text}
      </QuietButton>
      {open && (
        <Stack gap="4" mt="4">
          {children}
        </Stack>
      )}
    </Box>
  );
}
