import { Box, Heading, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import type { components } from '../api/schema.gen';
import { Command } from './command';
import { More } from './more';
import { QrCode } from './qr';
import { Sheet } from './sheet';

/** This machine's system, as far as the browser says. */
const here = /Mac|iP(hone|ad)/.test(navigator.userAgent)
  ? 'macOS'
  : /Windows/.test(navigator.userAgent)
    ? 'Windows'
    : 'Linux';

/** What to type on each kind of machine to open a folder: first those for the one that is sat at. */
export function WaysIn({ ways }: { ways: components['schemas']['Way'][] }) {
  const kinds = [...new Set(ways.map((w) => t`${w.system}, over ${w.over}`))].sort(
    (a, b) => Number(b.startsWith(here)) - Number(a.startsWith(here)),
  );
  return (
    <Stack gap="4">
      {kinds.map((kind) => (
        <Sheet key={kind} p="4">
          <Heading as="h3" fontSize="md" mb="3">
            {kind}
          </Heading>
          <Stack gap="3">
            {ways
              .filter((w) => t`${w.system}, over ${w.over}` === kind)
              .map((w) => (
                <Box key={w.text}>
                  <Text color="faint" fontSize="sm" mb="1">
                    {w.does}
                  </Text>
                  <Command text={w.text} />
                  {w.qr && (
                    <Box mt="2">
                      <More text={t`For a phone or a tablet: as a code to take a picture of`}>
                        <QrCode rows={w.qr} label={t`QR code of ${w.text}`} width={180} />
                      </More>
                    </Box>
                  )}
                </Box>
              ))}
          </Stack>
        </Sheet>
      ))}
    </Stack>
  );
}
