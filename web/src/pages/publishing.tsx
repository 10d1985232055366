import { Box, Checkbox, Flex, HStack, Stack, Switch, Table, Text } from '@chakra-ui/react';
import { Link } from 'react-router';
import { type Share, useExports, useMe, useServices, useShares } from '../api/client';
import { type Asked, useAsk } from '../parts/effect';
import { Grid } from '../parts/grid';
import { Labels } from '../parts/labels';
import { PageHead, Part, QuietButton, Waiting } from '../parts/sheet';

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
      <PageHead title="Publishing" text="What clients can open, over which protocol, and on what terms">
        <Link to="/hosts">
          <QuietButton as="span">Host sets and numbers</QuietButton>
        </Link>
      </PageHead>
      <Flex gap="4" mb="6" wrap="wrap">
        {services.data.map((s) => (
          <Part key={s.protocol} title={spoken[s.protocol] ?? s.protocol} flex="1" minW="60">
            <HStack px="5" py="4" justify="space-between">
              <Box>
                <Text fontWeight="600" color={s.on ? 'open' : 'shut'}>
                  {s.on ? 'On' : 'Off'}
                </Text>
                <Text color="faint" fontSize="sm">
                  {s.protocol === 'smb' ? `${shares.data.length} shares` : `${exported.data.length} exports`}
                </Text>
              </Box>
              <Switch.Root
                checked={s.on}
                disabled={!mayChange}
                onCheckedChange={(e) =>
                  setAsking({
                    title: `Switch ${spoken[s.protocol]} ${e.checked ? 'on' : 'off'}?`,
                    act: `Switch it ${e.checked ? 'on' : 'off'}`,
                    done: `${spoken[s.protocol]} is ${e.checked ? 'on' : 'off'}.`,
                    changes: [
                      { kind: 'service', act: 'switch', of: { protocol: s.protocol }, with: { on: e.checked } },
                    ],
                  })
                }
              >
                <Switch.HiddenInput aria-label={`${spoken[s.protocol]} is switched on`} />
                <Switch.Control>
                  <Switch.Thumb />
                </Switch.Control>
              </Switch.Root>
            </HStack>
          </Part>
        ))}
      </Flex>
      <Stack gap="6">
        <Part title="Shares, over SMB">
          {shares.data.length === 0 ? (
            <Text px="5" py="4" color="faint">
              None yet. A folder is published on its own page, or as it is made.
            </Text>
          ) : (
            <Grid
              head={[
                'Share',
                'Folder',
                'Announced',
                'Read-only',
                'Only what one may open',
                'Entries of its own',
                '-Remove',
              ]}
            >
              {shares.data.map((s) => (
                <ShareRow key={s.name} share={s} mayChange={mayChange} ask={setAsking} />
              ))}
            </Grid>
          )}
        </Part>
        <Part title="Exports, over NFS">
          {exported.data.length === 0 ? (
            <Text px="5" py="4" color="faint">
              None yet. A folder is published on its own page, or as it is made.
            </Text>
          ) : (
            <Grid head={['Export', 'Folder', 'To which hosts', 'Written at once', 'Groups', '-Remove']}>
              {exported.data.map((e) => (
                <Table.Row key={e.path}>
                  <Table.Cell fontWeight="600">
                    {e.path}
                    {!e.on && <Off />}
                    <Labels labels={e.labels} />
                  </Table.Cell>
                  <Table.Cell>
                    <ToFolder name={e.folder} tab="exports" />
                    {e.below && `/${e.below}`}
                  </Table.Cell>
                  <Table.Cell whiteSpace="normal">
                    {e.inForce.length === 0 ? (
                      <Text color="shut">none: nobody mounts it</Text>
                    ) : (
                      e.inForce
                        .slice(0, 4)
                        .map((r) => `${r.from}${r.write ? ' rw' : ''}`)
                        .join(', ') + (e.inForce.length > 4 ? ` and ${e.inForce.length - 4} more` : '')
                    )}
                  </Table.Cell>
                  <Table.Cell>{e.sync ? 'yes' : 'no'}</Table.Cell>
                  <Table.Cell>{e.clientGroups ? 'as the client says' : 'of the records'}</Table.Cell>
                  <Table.Cell textAlign="end">
                    {mayChange && (
                      <QuietButton
                        size="xs"
                        onClick={() =>
                          setAsking({
                            title: `Publish ${e.path} no more?`,
                            act: 'Publish it no more',
                            done: `${e.path} is published no more.`,
                            changes: [{ kind: 'export', act: 'remove', of: { name: e.path } }],
                          })
                        }
                      >
                        Remove
                        <Text srOnly>export {e.path}</Text>
                      </QuietButton>
                    )}
                  </Table.Cell>
                </Table.Row>
              ))}
            </Grid>
          )}
        </Part>
      </Stack>
      {dialog}
    </>
  );
}

const Off = () => (
  <Text as="span" color="shut" fontWeight="600" ms="2">
    service off
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

function ShareRow({ share: s, mayChange, ask }: { share: Share; mayChange: boolean; ask: (a: Asked) => void }) {
  const option = (label: string, on: boolean, name: 'announced' | 'readOnly' | 'listOnlyOpenable') => (
    <Checkbox.Root
      size="sm"
      checked={on}
      disabled={!mayChange}
      onCheckedChange={(e) =>
        ask({
          title: `${s.name}: ${label}, ${e.checked ? 'yes' : 'no'}?`,
          act: 'Change it',
          done: `Share ${s.name} is changed.`,
          changes: [{ kind: 'share', act: 'change', of: { name: s.name }, with: { [name]: e.checked === true } }],
        })
      }
    >
      <Checkbox.HiddenInput aria-label={`${s.name}: ${label}`} />
      <Checkbox.Control />
    </Checkbox.Root>
  );
  return (
    <Table.Row>
      <Table.Cell fontWeight="600">
        {s.name}
        {!s.on && <Off />}
        {s.description && (
          <Text color="faint" fontSize="sm" fontWeight="400">
            {s.description}
          </Text>
        )}
        <Labels labels={s.labels} />
      </Table.Cell>
      <Table.Cell>
        <ToFolder name={s.folder} />
      </Table.Cell>
      <Table.Cell>{option('announced', s.announced, 'announced')}</Table.Cell>
      <Table.Cell>{option('read-only', s.readOnly, 'readOnly')}</Table.Cell>
      <Table.Cell>{option('only what one may open', s.listOnlyOpenable, 'listOnlyOpenable')}</Table.Cell>
      <Table.Cell>{s.entries.length === 0 ? 'none' : s.entries.length}</Table.Cell>
      <Table.Cell textAlign="end">
        {mayChange && (
          <QuietButton
            size="xs"
            onClick={() =>
              ask({
                title: `Publish ${s.name} no more?`,
                act: 'Publish it no more',
                done: `Share ${s.name} is no more.`,
                changes: [{ kind: 'share', act: 'remove', of: { name: s.name } }],
              })
            }
          >
            Remove
            <Text srOnly>share {s.name}</Text>
          </QuietButton>
        )}
      </Table.Cell>
    </Table.Row>
  );
}
