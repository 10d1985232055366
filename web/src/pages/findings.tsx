import { Badge, Box, Field, Flex, Heading, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useMutation } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { useForm } from 'react-hook-form';
import { useLocation } from 'react-router';
import { locales } from '#texts';
import { change } from '../api/change';
import { api, client, type Finding, fileAt, taken, useFindings, useMe } from '../api/client';
import { AsSeen } from '../parts/as-seen';
import { Command } from '../parts/command';
import { Previewed } from '../parts/effect';
import { MainButton, PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { say } from '../parts/toaster';

const means = {
  high: t`open to people or machines that nobody named, or out of everybody’s reach`,
  medium: t`somebody has less, or more, than was meant`,
  low: t`untidy: it misleads who reads the rules`,
};

/** What the audit holds to be wrong or risky, each with what fixes it. */
export function Findings() {
  const [all, setAll] = useState(false);
  const findings = useFindings(all);
  const me = useMe();
  const mayChange = me.data?.role === 'administrator';
  const meant = decodeURIComponent(useLocation().hash.slice(1));
  return (
    <>
      <PageHead title={t`Findings`} text={t`What the audit holds to be wrong or risky, and what fixes it.`}>
        <HStack>
          <a href={fileAt('/api/v1/reports/findings')}>
            <QuietButton as="span">
              <Trans>For paper</Trans>
            </QuietButton>
          </a>
          <QuietButton onClick={() => setAll(!all)} aria-pressed={all}>
            {all ? t`Hide what is accepted` : t`Show what is accepted too`}
          </QuietButton>
        </HStack>
      </PageHead>
      {!findings.data ? (
        <Waiting error={findings.error} />
      ) : findings.data.length === 0 ? (
        <Sheet p="6">
          <Text>
            <Trans>Nothing is found to be wrong.</Trans>
          </Text>
        </Sheet>
      ) : (
        <Stack gap="8">
          {(['high', 'medium', 'low'] as const).map((severity) => {
            const some = findings.data.filter((f) => f.severity === severity);
            if (some.length === 0) return null;
            return (
              <Box as="section" key={severity}>
                <HStack mb="3" gap="3" align="baseline">
                  <Heading as="h2" fontSize="lg" textTransform="capitalize">
                    {severity}
                  </Heading>
                  <Text color="faint" fontSize="sm">
                    {some.length} – {means[severity]}
                  </Text>
                </HStack>
                <Stack gap="3">
                  <AsSeen
                    of={some}
                    upTo={some.findIndex((f) => f.key === meant)}
                    draw={(f) => <FindingSheet key={f.key} finding={f} mayChange={mayChange} meant={f.key === meant} />}
                  />
                </Stack>
              </Box>
            );
          })}
        </Stack>
      )}
    </>
  );
}

function FindingSheet({ finding: f, mayChange, meant }: { finding: Finding; mayChange: boolean; meant: boolean }) {
  const [fixing, setFixing] = useState(false);
  const [accepting, setAccepting] = useState(false);
  const [reopening, setReopening] = useState(false);
  const sheet = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!meant) return;
    sheet.current?.scrollIntoView({ block: 'center' });
    sheet.current?.focus();
  }, [meant]);
  return (
    <Sheet
      ref={sheet}
      p="4"
      as="article"
      tabIndex={-1}
      aria-label={`${f.subject}: ${f.kind}`}
      borderColor={meant ? 'accent' : 'line'}
      borderWidth={meant ? '2px' : '1px'}
    >
      <Flex justify="space-between" gap="4" wrap="wrap">
        <Box flex="1" minW="60">
          <HStack gap="2.5" wrap="wrap" mb="1">
            <Text fontWeight="600">{f.subject}</Text>
            <Badge bg={f.severity === 'high' ? 'shut.soft' : 'sunk'} color={f.severity === 'high' ? 'shut' : 'faint'}>
              {f.kind}
            </Badge>
          </HStack>
          <Text color="faint">{f.says}.</Text>
          {f.accepted && (
            <Text fontSize="sm" mt="1">
              <Trans>
                Accepted by {f.accepted.by} until {new Date(f.accepted.until).toLocaleDateString(locales())}:{' '}
                {f.accepted.reason}
              </Trans>
            </Text>
          )}
        </Box>
        {mayChange && f.accepted && (
          <Box>
            <QuietButton size="sm" onClick={() => setReopening(true)}>
              <Trans>
                Live with it no more
                <Text srOnly>: {f.subject}</Text>
              </Trans>
            </QuietButton>
          </Box>
        )}
        <Previewed
          title={t`Live with it no more?`}
          act={t`It is to be told of again`}
          changes={reopening ? [change('finding', 'reopen', { of: { name: f.key } })] : null}
          done={t`${f.subject} is told of again.`}
          onClose={() => setReopening(false)}
          onDone={() => setReopening(false)}
        />
        {mayChange && !f.accepted && !accepting && (
          <HStack align="start">
            <QuietButton size="sm" onClick={() => setAccepting(true)}>
              <Trans>Accept</Trans>
            </QuietButton>
            {f.changes && (
              <MainButton size="sm" onClick={() => setFixing(true)}>
                <Trans>Fix</Trans>
              </MainButton>
            )}
          </HStack>
        )}
      </Flex>
      {!f.accepted && (
        <Stack gap="1.5" mt="3">
          {f.fix.map((m) => (
            <Command key={m} text={m} />
          ))}
        </Stack>
      )}
      {accepting && <Accept finding={f} onDone={() => setAccepting(false)} />}
      <Previewed
        title={t`Fix: ${f.kind}?`}
        act={t`Fix`}
        changes={fixing ? (f.changes ?? []) : null}
        done={t`Fixed: ${f.subject}.`}
        onClose={() => setFixing(false)}
        onDone={() => setFixing(false)}
      >
        <Text>
          {f.subject}: {f.says}.
        </Text>
      </Previewed>
    </Sheet>
  );
}

function Accept({ finding, onDone }: { finding: Finding; onDone: () => void }) {
  const { register, handleSubmit } = useForm<{ reason: string; until: string }>();
  const accept = useMutation({
    mutationFn: (b: { reason: string; until: string }) =>
      taken(
        api.PUT('/api/v1/findings/{name}/acceptance', {
          params: { path: { name: finding.key } },
          body: { reason: b.reason, until: new Date(`${b.until}T23:59:59`).toISOString() },
        }),
      ),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ['findings'] });
      say(t`Accepted: ${finding.subject}.`);
      onDone();
    },
  });
  return (
    <Box as="form" mt="4" onSubmit={handleSubmit((b) => accept.mutate(b))}>
      {accept.error && (
        <Box mb="3">
          <Refused error={accept.error} />
        </Box>
      )}
      <Flex gap="3" wrap="wrap" align="end">
        <Field.Root flex="1" minW="48">
          <Field.Label>
            <Trans>Why it may stay</Trans>
          </Field.Label>
          <Input autoFocus maxLength={500} {...register('reason', { required: true })} />
        </Field.Root>
        <Field.Root w="44">
          <Field.Label>
            <Trans>Until</Trans>
          </Field.Label>
          <Input type="date" min={new Date().toISOString().slice(0, 10)} {...register('until', { required: true })} />
        </Field.Root>
        <QuietButton onClick={onDone}>
          <Trans>Cancel</Trans>
        </QuietButton>
        <MainButton type="submit" loading={accept.isPending}>
          <Trans>Accept</Trans>
        </MainButton>
      </Flex>
    </Box>
  );
}
