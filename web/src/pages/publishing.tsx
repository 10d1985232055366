import { Box, Checkbox, Flex, HStack, Stack, Switch, Text } from '@chakra-ui/react';
import { plural, t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useState } from 'react';
import { Link } from 'react-router';
import { type Share, useExports, useMe, useServices, useShares } from '../api/client';
import { type Asked, useAsk } from '../parts/effect';
import { Guests } from '../parts/guests';
import { Labels } from '../parts/labels';
import { ServerNames } from '../parts/server-names';
import { hostsText, ShareEntries, ShareOption, type shareOptions } from '../parts/shares';
import { PageHead, Part, QuietButton, Waiting } from '../parts/sheet';
import { type Column, DataTable } from '../parts/table';

const spoken: Record<string, string> = { smb: 'SMB', nfs: 'NFS' };

/** What is published, across all folders, and whether it is spoken at all. */
export function Publishing() {
  const me = useMe().data;
  const mayChange = me?.role === 'administrator';
  const services = useServices();
  const shares = useShares();
  const exported = useExports();
  const [setAsking, dialog] = useAsk();
  if (!services.data || !shares.data || !exported.data)
    return <Waiting error={services.error ?? shares.error ?? exported.error} />;
  return (
    <>
      <PageHead title={t`Publishing`} text={t`What clients can open, over which protocol, and on what terms`}>
        <Link to="/hosts">
          <QuietButton as="span">
            <Trans>Host sets and numbers</Trans>
          </QuietButton>
        </Link>
      </PageHead>
      <Flex gap="4" mb="6" wrap="wrap">
        {services.data.map((s) => (
          <Part key={s.protocol} title={spoken[s.protocol] ?? s.protocol} flex="1" minW="60">
            <HStack px="5" py="4" justify="space-between">
              <Box>
                <Text fontWeight="600" color={s.on ? 'open' : 'shut'}>
                  {s.on ? t`On` : t`Off`}
                </Text>
                <Text color="faint" fontSize="sm">
                  {s.protocol === 'smb'
                    ? plural(shares.data.length, { one: '# share', other: '# shares' })
                    : plural(exported.data.length, { one: '# export', other: '# exports' })}
                  {s.listens && t`, at ${s.listens}`}
                  {s.overQuic && t`, over QUIC at ${s.overQuic}`}
                </Text>
                {s.protocol === 'smb' && (
                  <Checkbox.Root
                    mt="2"
                    size="sm"
                    checked={s.encrypted === true}
                    disabled={!mayChange}
                    onCheckedChange={(e) =>
                      setAsking({
                        title:
                          e.checked === true
                            ? t`Encrypt everything over SMB?`
                            : t`Encrypt only the shares that say so?`,
                        act: e.checked === true ? t`Encrypt it` : t`Leave it to the shares`,
                        done:
                          e.checked === true
                            ? t`Everything over SMB is encrypted.`
                            : t`Over SMB, the shares are encrypted that say so.`,
                        changes: [
                          {
                            kind: 'service',
                            act: 'switch',
                            of: { protocol: 'smb' },
                            with: { encrypted: e.checked === true },
                          },
                        ],
                      })
                    }
                  >
                    <Checkbox.HiddenInput />
                    <Checkbox.Control />
                    <Checkbox.Label>
                      <Trans>everything encrypted</Trans>
                    </Checkbox.Label>
                  </Checkbox.Root>
                )}
                {s.protocol === 'smb' && <Guests guest={s.guest} mayChange={mayChange} />}
                {s.trouble && (
                  <Text color="shut" fontSize="sm" role="alert">
                    {s.trouble}.
                  </Text>
                )}
              </Box>
              <Switch.Root
                checked={s.on}
                disabled={!mayChange}
                onCheckedChange={(e) =>
                  setAsking({
                    title: t`Switch ${spoken[s.protocol] ?? ''} ${e.checked ? t`on` : t`off`}?`,
                    act: t`Switch it ${e.checked ? t`on` : t`off`}`,
                    done: t`${spoken[s.protocol] ?? ''} is ${e.checked ? t`on` : t`off`}.`,
                    changes: [
                      { kind: 'service', act: 'switch', of: { protocol: s.protocol }, with: { on: e.checked } },
                    ],
                  })
                }
              >
                <Switch.HiddenInput aria-label={t`${spoken[s.protocol] ?? ''} is switched on`} />
                <Switch.Control>
                  <Switch.Thumb />
                </Switch.Control>
              </Switch.Root>
            </HStack>
          </Part>
        ))}
      </Flex>
      <Stack gap="6">
        <Part title={t`Shares, over SMB`}>
          {shares.data.length === 0 ? (
            <Text px="5" py="4" color="faint">
              <Trans>None yet. A folder is published on its own page, or as it is made.</Trans>
            </Text>
          ) : (
            <Shares shares={shares.data} mayChange={mayChange} ask={setAsking} />
          )}
        </Part>
        <Part title={t`Exports, over NFS`}>
          {exported.data.length === 0 ? (
            <Text px="5" py="4" color="faint">
              <Trans>None yet. A folder is published on its own page, or as it is made.</Trans>
            </Text>
          ) : (
            <DataTable
              rows={exported.data}
              rowKey={(e) => e.path}
              columns={[
                {
                  head: t`Export`,
                  by: (e) => e.path,
                  cell: (e) => (
                    <>
                      {e.path}
                      {!e.on && <Off />}
                      <Labels labels={e.labels} />
                    </>
                  ),
                  is: { fontWeight: '600' },
                },
                {
                  head: t`Folder`,
                  by: (e) => e.folder,
                  cell: (e) => (
                    <>
                      <ToFolder name={e.folder} tab="exports" />
                      {e.below && `/${e.below}`}
                    </>
                  ),
                },
                {
                  head: t`To which hosts`,
                  cell: (e) =>
                    e.inForce.length === 0 ? (
                      <Text color="shut">
                        <Trans>none: nobody mounts it</Trans>
                      </Text>
                    ) : (
                      e.inForce
                        .slice(0, 4)
                        .map((r) => `${r.from}${r.write ? ' rw' : ''}`)
                        .join(', ') + (e.inForce.length > 4 ? t` and ${e.inForce.length - 4} more` : '')
                    ),
                  is: { whiteSpace: 'normal' },
                },
                { head: t`Written at once`, cell: (e) => (e.sync ? t`yes` : t`no`) },
                { head: t`Groups`, cell: (e) => (e.clientGroups ? t`as the client says` : t`of the records`) },
                {
                  head: `-${t`Remove`}`,
                  cell: (e) =>
                    mayChange && (
                      <QuietButton
                        size="xs"
                        onClick={() =>
                          setAsking({
                            title: t`Publish ${e.path} no more?`,
                            act: t`Publish it no more`,
                            done: t`${e.path} is published no more.`,
                            changes: [{ kind: 'export', act: 'remove', of: { name: e.path } }],
                          })
                        }
                      >
                        <Trans>
                          Remove
                          <Text srOnly>export {e.path}</Text>
                        </Trans>
                      </QuietButton>
                    ),
                  is: { textAlign: 'end' },
                },
              ]}
            />
          )}
        </Part>
        <ServerNames mayChange={mayChange} />
      </Stack>
      {dialog}
    </>
  );
}

const Off = () => (
  <Text as="span" color="shut" fontWeight="600" ms="2">
    <Trans>service off</Trans>
  </Text>
);

function ToFolder({ name, tab }: { name: string; tab?: string }) {
  return (
    <Link to={`/folders/${encodeURIComponent(name)}${tab ? `?tab=${tab}` : ''}`}>
      <Text as="span" textDecoration="underline" textDecorationColor="line">
        {name}
      </Text>
    </Link>
  );
}

function Shares({ shares, mayChange, ask }: { shares: Share[]; mayChange: boolean; ask: (a: Asked) => void }) {
  const [opened, setOpened] = useState('');
  const option = (head: string, name: (typeof shareOptions)[number]['name']): Column<Share> => ({
    head,
    cell: (s) => <ShareOption share={s} name={name} mayChange={mayChange} ask={ask} />,
  });
  return (
    <DataTable
      label={t`Shares`}
      rows={shares}
      rowKey={(s) => s.name}
      under={(s) => opened === s.name && <ShareEntries share={s} mayChange={mayChange} />}
      columns={[
        {
          head: t`Share`,
          by: (s) => s.name,
          cell: (s) => (
            <>
              {s.name}
              {!s.on && <Off />}
              {s.description && (
                <Text color="faint" fontSize="sm" fontWeight="400">
                  {s.description}
                </Text>
              )}
              {(s.persistent || s.guests) && (
                <Text color="faint" fontSize="sm" fontWeight="400">
                  {[s.persistent && t`open over restarts`, s.guests && t`takes guests`].filter(Boolean).join(', ')}
                </Text>
              )}
              <Labels labels={s.labels} />
            </>
          ),
          is: { fontWeight: '600' },
        },
        { head: t`Folder`, by: (s) => s.folder, cell: (s) => <ToFolder name={s.folder} /> },
        option(t`Announced`, 'announced'),
        option(t`Read-only`, 'readOnly'),
        option(t`Only what one may open`, 'listOnlyOpenable'),
        option(t`Encrypted`, 'encrypted'),
        {
          head: t`From`,
          cell: (s) =>
            s.hosts ? (
              <Text fontFamily="mono" fontSize="sm">
                {hostsText(s.hosts)}
              </Text>
            ) : (
              t`everywhere`
            ),
          is: { whiteSpace: 'normal' },
        },
        {
          head: t`Entries of its own`,
          cell: (s) => (
            <QuietButton
              size="xs"
              aria-expanded={opened === s.name}
              onClick={() => setOpened(opened === s.name ? '' : s.name)}
            >
              {s.entries.length === 0 ? t`none` : s.entries.length}
              <Text srOnly>
                <Trans>entries of share {s.name}</Trans>
              </Text>
            </QuietButton>
          ),
        },
        {
          head: `-${t`Remove`}`,
          cell: (s) =>
            mayChange && (
              <QuietButton
                size="xs"
                onClick={() =>
                  ask({
                    title: t`Publish ${s.name} no more?`,
                    act: t`Publish it no more`,
                    done: t`Share ${s.name} is no more.`,
                    changes: [{ kind: 'share', act: 'remove', of: { name: s.name } }],
                  })
                }
              >
                <Trans>
                  Remove
                  <Text srOnly>share {s.name}</Text>
                </Trans>
              </QuietButton>
            ),
          is: { textAlign: 'end' },
        },
      ]}
    />
  );
}
