import { Box, Field, Flex, Heading, HStack, Input, NativeSelect, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useForm } from 'react-hook-form';
import { useSearchParams } from 'react-router';
import { type Why as Answer, api, type Gate, type Level as LevelName, levels, taken } from '../api/client';
import { Away } from '../parts/away';
import { Command } from '../parts/command';
import { GateIcon } from '../parts/icons';
import { PathInput, UserInput } from '../parts/inputs';
import { MainButton, PageHead, Refused, Sheet, Waiting } from '../parts/sheet';

type Form = { user: string; path: string; want: LevelName; via: 'smb' | 'nfs'; from: string };

/** Why may somebody do something, or not: the gates in order, from the same walk that decides. */
export function Why() {
  const [params, setParams] = useSearchParams();
  const asked: Form = {
    user: params.get('user') ?? '',
    path: params.get('path') ?? '',
    want: (params.get('want') as LevelName) ?? 'read',
    via: params.get('via') === 'nfs' ? 'nfs' : 'smb',
    from: params.get('from') ?? '',
  };
  const { register, handleSubmit, formState, watch } = useForm<Form>({
    values: asked,
    resetOptions: { keepDirtyValues: true },
  });
  const ready = asked.user !== '' && asked.path !== '';
  const { from, ...question } = asked;
  const answer = useQuery({
    queryKey: ['why', asked],
    queryFn: () => taken(api.GET('/api/v1/why', { params: { query: asked.via === 'nfs' && from ? asked : question } })),
    enabled: ready,
    staleTime: 0,
  });
  return (
    <>
      <PageHead title="Why" text="What a user may do to a path, gate by gate: the same walk that decides requests." />
      <Sheet p="4" mb="5">
        <form
          onSubmit={handleSubmit((f) => {
            const { from: address, ...rest } = { ...f, path: f.path.trim() };
            setParams(f.via === 'nfs' ? { ...rest, from: address.trim() } : rest);
            if (ready) answer.refetch();
          })}
        >
          <Flex gap="3" wrap="wrap" align="end">
            <Field.Root w={{ base: 'full', sm: '44' }} invalid={!!formState.errors.user}>
              <Field.Label>User</Field.Label>
              <UserInput {...register('user', { required: true })} />
            </Field.Root>
            <Field.Root w={{ base: 'full', sm: '32' }}>
              <Field.Label>wants</Field.Label>
              <NativeSelect.Root>
                <NativeSelect.Field {...register('want')}>
                  {levels.map((l) => (
                    <option key={l.level} value={l.level}>
                      {l.level}
                    </option>
                  ))}
                </NativeSelect.Field>
                <NativeSelect.Indicator />
              </NativeSelect.Root>
            </Field.Root>
            <Field.Root flex="1" minW="56" invalid={!!formState.errors.path}>
              <Field.Label>on</Field.Label>
              <PathInput {...register('path', { required: true })} />
            </Field.Root>
            <Field.Root w={{ base: 'full', sm: '28' }}>
              <Field.Label>over</Field.Label>
              <NativeSelect.Root>
                <NativeSelect.Field {...register('via')}>
                  <option value="smb">SMB</option>
                  <option value="nfs">NFS</option>
                </NativeSelect.Field>
                <NativeSelect.Indicator />
              </NativeSelect.Root>
            </Field.Root>
            {watch('via') === 'nfs' && (
              <Field.Root w={{ base: 'full', sm: '44' }}>
                <Field.Label>from</Field.Label>
                <Input autoComplete="off" placeholder="address or host" {...register('from')} />
              </Field.Root>
            )}
            <MainButton type="submit" loading={answer.isFetching}>
              Ask
            </MainButton>
          </Flex>
        </form>
      </Sheet>
      {!ready && <Text color="faint">Name a user and a path, such as orla on nightlog.</Text>}
      {ready && answer.error && <Refused error={answer.error} />}
      {ready && !answer.error && (answer.data ? <Verdict why={answer.data} /> : <Waiting error={null} />)}
    </>
  );
}

function Verdict({ why }: { why: Answer }) {
  const fix = why.allowed ? [] : why.gates.flatMap((g) => g.fix ?? []);
  const touches = why.allowed ? [] : why.gates.flatMap((g) => g.touches ?? []);
  return (
    <Box aria-live="polite">
      {why.away && <Away why={why.away} />}
      <Flex bg={why.allowed ? 'open.soft' : 'shut.soft'} borderRadius="lg" px="5" py="4" gap="4" align="center" mb="6">
        <GateIcon open={why.allowed} boxSize="10" color={why.allowed ? 'open' : 'shut'} />
        <Box>
          <Heading as="h2" fontSize="xl">
            {why.allowed ? 'Allowed' : `Refused at the ${why.gate} gate`}
          </Heading>
          <Text>
            <b>{why.user}</b> wants <b>{why.want}</b> on{' '}
            <Text as="span" fontFamily="mono" fontSize="sm">
              {why.path}
            </Text>
            {why.share
              ? why.from
                ? `, through export ${why.share} from ${why.from}`
                : `, through share ${why.share}`
              : ''}
            . All gates together leave <b>{why.granted}</b>.
            {!why.exists && ' Nothing is at that path on disk: this is what would hold for a directory there.'}
          </Text>
        </Box>
      </Flex>
      <Stack as="ol" gap="0" listStyleType="none" mb="5">
        {why.gates.map((g, i) => (
          <GateRow
            key={g.gate}
            gate={g}
            last={i === why.gates.length - 1}
            decides={!why.allowed && g.gate === why.gate}
          />
        ))}
      </Stack>
      {(why.takeAway?.length ?? 0) > 0 && (
        <Sheet p="4">
          <Heading as="h3" fontSize="md" mb="3">
            To take it away
          </Heading>
          <Stack gap="2">
            {why.takeAway?.map((m) => (
              <Command key={m} text={m} />
            ))}
          </Stack>
        </Sheet>
      )}
      {fix.length > 0 && (
        <Sheet p="4">
          <Heading as="h3" fontSize="md" mb="3">
            To allow it
          </Heading>
          <Stack gap="2">
            {fix.map((m) => (
              <Command key={m} text={m} />
            ))}
          </Stack>
          {touches.map((t) => (
            <Text key={t} mt="3" fontSize="sm">
              Mind: {t}.
            </Text>
          ))}
        </Sheet>
      )}
    </Box>
  );
}

/** One gate on the way: its post stands on the path that runs down the page. */
function GateRow({ gate, last, decides }: { gate: Gate; last: boolean; decides: boolean }) {
  return (
    <Flex as="li" gap="4">
      <Flex direction="column" align="center" flexShrink="0">
        <Flex
          boxSize="10"
          borderRadius="full"
          align="center"
          justify="center"
          bg={gate.passed ? 'open.soft' : 'shut.soft'}
          color={gate.passed ? 'open' : 'shut'}
          outline={decides ? '2px solid' : undefined}
          outlineColor="shut"
        >
          <GateIcon open={gate.passed} boxSize="6" />
        </Flex>
        {!last && <Box flex="1" w="2px" minH="2" bg="line" />}
      </Flex>
      <Box pb={last ? '0' : '3'} minW="0">
        <HStack gap="2" wrap="wrap">
          <Text fontWeight="700" textTransform="capitalize">
            {gate.gate}
          </Text>
          <Text color={gate.passed ? 'faint' : 'shut'} fontWeight={gate.passed ? '400' : '600'}>
            leaves {gate.leaves}
          </Text>
          {gate.record && (
            <Text fontSize="xs" fontFamily="mono" color="faint" px="1.5" borderRadius="sm" bg="sunk">
              {gate.record}
            </Text>
          )}
        </HStack>
        <Text color={decides ? 'ink' : 'faint'}>{gate.reason}</Text>
      </Box>
    </Flex>
  );
}
