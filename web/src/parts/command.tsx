import { Code, HStack, IconButton } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { CopyIcon } from './icons';
import { say } from './toaster';

/** A command to type, with a button that copies it. */
export function Command({ text }: { text: string }) {
  return (
    <HStack bg="sunk" borderRadius="md" ps="3" pe="1" py="1" justify="space-between" maxW="full">
      <Code bg="transparent" color="ink" fontSize="sm" whiteSpace="pre-wrap" wordBreak="break-word">
        {text}
      </Code>
      <IconButton
        aria-label={t`Copy: ${text}`}
        size="xs"
        variant="ghost"
        color="faint"
        _hover={{ bg: 'line', color: 'ink' }}
        onClick={async () => {
          await navigator.clipboard.writeText(text);
          say(t`Copied.`);
        }}
      >
        <CopyIcon />
      </IconButton>
    </HStack>
  );
}
