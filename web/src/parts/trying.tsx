import { Box, Field, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import { api, taken } from '../api/client';
import { GateIcon } from './icons';
import { Pick } from './pick';
import { PickerField } from './picker';
import { MainButton, Part, Refused } from './sheet';
import { Tick } from './tick';

type Filled = { user: string; via: '' | 'smb' | 'nfs'; from: string; make: boolean };

/** The service goes in as somebody, by the wire itself, and shows each step beside what the audit says of it. */
export function LiveTry({ path }: { path: string }) {
  const { register, control, handleSubmit } = useForm<Filled>({
    defaultValues: { user: '', via: '', from: '', make: true },
  });
  const going = useMutation({
    mutationFn: (f: Filled) =>
      taken(
        api.POST('/api/v1/try', {
          body: {
            user: f.user.trim(),
            path,
            ...(f.via && { via: f.via }),
            ...(f.from.trim() && { from: f.from.trim() }),
            ...(!f.make && { look: true }),
          },
        }),
      ),
  });
  const came = going.data;
  return (
    <Part title={t`Try it as somebody`}>
      <Box p="5">
        <Text color="faint" fontSize="sm" mb="4" maxW="75ch">
          <Trans>
            The service speaks SMB and NFS to itself as that person, without their password, over a connection that
            nobody else can reach. It is written in the journal.
          </Trans>
        </Text>
        <form onSubmit={handleSubmit((f) => going.mutate(f))}>
          <Flex gap="3" wrap="wrap" align="end">
            <Field.Root w={{ base: 'full', sm: '52' }}>
              <Field.Label>
                <Trans>As</Trans>
              </Field.Label>
              <PickerField of="user" control={control} name="user" placeholder={t`user`} rules={{ required: true }} />
            </Field.Root>
            <Field.Root w="36">
              <Field.Label>
                <Trans>Over</Trans>
              </Field.Label>
              <Pick {...register('via')}>
                <option value="">
                  <Trans>both</Trans>
                </option>
                <option value="smb">
                  <Trans>SMB</Trans>
                </option>
                <option value="nfs">
                  <Trans>NFS</Trans>
                </option>
              </Pick>
            </Field.Root>
            <Field.Root w={{ base: 'full', sm: '56' }}>
              <Field.Label>
                <Trans>As if from</Trans>
              </Field.Label>
              <Input autoComplete="off" placeholder={t`a host that may`} {...register('from')} />
            </Field.Root>
            <Box pb="2">
              <Tick control={control} name="make" text={t`make a file and remove it`} />
            </Box>
            <MainButton type="submit" loading={going.isPending}>
              <Trans>Try it</Trans>
            </MainButton>
          </Flex>
        </form>
        <Box aria-live="polite">
          {going.error && (
            <Box mt="4">
              <Refused error={going.error} />
            </Box>
          )}
          {came && (
            <Stack gap="5" mt="5">
              <Text fontWeight="700" color={came.agrees ? 'open' : 'shut'}>
                {came.agrees ? t`All of it went as the audit says.` : t`The wire and the audit differ.`}
              </Text>
              {came.ways.map((w) => (
                <Box key={w.via} as="section" aria-label={t`Over ${w.via.toUpperCase()}`}>
                  <Text fontWeight="600" mb="2">
                    <Trans>
                      Over {w.via.toUpperCase()} by {w.through}, as if from {w.from}
                    </Trans>
                  </Text>
                  <Stack as="ol" gap="2" listStyleType="none">
                    {w.steps.map((s) => (
                      <HStack as="li" key={s.does} align="start" gap="3">
                        <GateIcon open={s.done} boxSize="5" mt="0.5" color={s.done ? 'open' : 'shut'} />
                        <Box>
                          <Text>
                            {s.does}: <b>{s.done ? t`done` : s.says}</b>
                            {s.done !== s.expected && (
                              <Text as="span" color="shut" fontWeight="700">
                                {' '}
                                <Trans>though the audit says that {s.expected ? t`it may be` : t`it may not be`}</Trans>
                              </Text>
                            )}
                          </Text>
                          {s.reason && (
                            <Text color="faint" fontSize="sm">
                              {s.gate && t`${s.gate} gate: `}
                              {s.reason}{' '}
                              <Link
                                to={`/why?${new URLSearchParams({ user: came.user, path: came.path, via: w.via, ...(w.from && { from: w.from }) })}`}
                              >
                                <Text as="span" color="accent" textDecoration="underline">
                                  <Trans>why</Trans>
                                </Text>
                              </Link>
                            </Text>
                          )}
                        </Box>
                      </HStack>
                    ))}
                  </Stack>
                  {w.left && <Text color="shut">{w.left}.</Text>}
                </Box>
              ))}
            </Stack>
          )}
        </Box>
      </Box>
    </Part>
  );
}
