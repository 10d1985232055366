import { NativeSelect } from '@chakra-ui/react';

/** A choice among a few. */
export function Pick(props: React.ComponentProps<typeof NativeSelect.Field>) {
  return (
    <NativeSelect.Root>
      <NativeSelect.Field {...props} />
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}
