import { Box, HStack, Text } from '@chakra-ui/react';
import { plural, t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import type { Standing, Use } from '../api/client';

/** A number of bytes for people, in decimal units. */
export function size(n: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB', 'PB', 'EB'];
  let value = Math.abs(n);
  let unit = 0;
  while (value >= 999.5 && unit + 1 < units.length) {
    value /= 1000;
    unit++;
  }
  const digits = unit === 0 || value >= 99.95 ? 0 : value >= 9.995 ? 1 : 2;
  const text = value.toFixed(digits);
  return `${n < 0 ? '-' : ''}${text.includes('.') ? text.replace(/\.?0+$/, '') : text} ${units[unit]}`;
}

/** How long something still is, in the two units that matter most. */
export function span(seconds: number): string {
  const parts: [number, string][] = [
    [86400, 'd'],
    [3600, 'h'],
    [60, 'min'],
  ];
  const at = parts.findIndex(([of]) => seconds >= of);
  if (at < 0) return t`less than a minute`;
  const [of, name] = parts[at] ?? [60, 'min'];
  const rest = parts[at + 1];
  const more = rest ? Math.floor((seconds % of) / rest[0]) : 0;
  return `${Math.floor(seconds / of)} ${name}${rest && more > 0 ? ` ${more} ${rest[1]}` : ''}`;
}

const files = (n: number) => plural(n, { one: '# file', other: '# files' });

/** Whether the files, and not the bytes, are what a standing is closest to its limit with. */
function byFiles(s: Standing): boolean {
  const part = (use: number, bound?: number) => (bound === undefined ? -1 : bound === 0 ? 1 : use / bound);
  return part(s.usedFiles, s.hardFiles ?? s.softFiles) > part(s.usedBytes, s.hardBytes ?? s.softBytes);
}

/** In words where something stands; never by colour alone. */
export function stateOf(s: Standing): { text: string; bad: boolean } {
  switch (s.state) {
    case 'full':
      return { text: t`full: nothing can grow`, bad: true };
    case 'grace over':
      return { text: t`grace over: nothing can grow`, bad: true };
    case 'in grace':
      return { text: t`above soft, ${span(s.graceLeftSeconds ?? 0)} of grace left`, bad: false };
    case 'counting':
      return { text: t`still being counted, does not bind yet`, bad: false };
  }
  return { text: '', bad: false };
}

/** A use as a bar, with marks where it is soft and where hard. */
export function UseBar({ standing }: { standing: Standing }) {
  const inFiles = byFiles(standing);
  const use = inFiles ? standing.usedFiles : standing.usedBytes;
  const soft = inFiles ? standing.softFiles : standing.softBytes;
  const hard = inFiles ? standing.hardFiles : standing.hardBytes;
  const most = Math.max(use, hard ?? 0, (soft ?? 0) * (hard === undefined ? 1.25 : 1), 1);
  const at = (n: number) => `${Math.min((n / most) * 100, 100)}%`;
  const spell = inFiles ? files : size;
  const bad = stateOf(standing).bad;
  const label = [
    t`${spell(use)} in use`,
    soft !== undefined && t`soft ${spell(soft)}`,
    hard !== undefined && t`hard ${spell(hard)}`,
  ]
    .filter(Boolean)
    .join(', ');
  return (
    <Box>
      <Box position="relative" h="3.5" role="img" aria-label={label}>
        <Box position="absolute" inset="0" borderRadius="sm" bg="sunk" />
        <Box
          position="absolute"
          insetY="0"
          left="0"
          w={at(use)}
          borderRadius="sm"
          bg={bad ? 'shut' : standing.percent >= 80 || standing.state === 'in grace' ? 'accent' : 'open'}
        />
        {soft !== undefined && (
          <Box
            position="absolute"
            insetY="-1"
            left={at(soft)}
            borderLeftWidth="2px"
            borderStyle="dashed"
            borderColor="ink"
          />
        )}
        {hard !== undefined && (
          <Box position="absolute" insetY="-1" left={at(hard)} ml="-2px" borderLeftWidth="2px" borderColor="ink" />
        )}
      </Box>
      <HStack justify="space-between" mt="1.5" fontSize="sm" color="faint" gap="4" wrap="wrap">
        <Text>
          {soft !== undefined && t`soft ${spell(soft)}`}
          {soft !== undefined && hard !== undefined && ', '}
          {hard !== undefined && t`hard ${spell(hard)}`}
        </Text>
        <Text>{Math.floor(standing.percent)} %</Text>
      </HStack>
    </Box>
  );
}

/** How much is in use, in words. */
export function InUse({ use }: { use: Use }) {
  return (
    <Text>
      {size(use.usedBytes)}
      <Text as="span" color="faint">
        {' '}
        <Trans>
          in {files(use.usedFiles)}
          {use.weekBytes !== undefined &&
            use.weekBytes !== 0 &&
            t`, ${use.weekBytes > 0 ? '+' : ''}${size(use.weekBytes)} in a week`}
        </Trans>
      </Text>
    </Text>
  );
}
