import { Box, Flex, HStack, Stack, Switch, Text } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'react-router';
import { type Share, useExports, useMe, useServices, useShares } from '../api/client';
import { type Asked, useAsk } from '../parts/effect';
import { Labels } from '../parts/labels';
import { ShareEntries, ShareOption } from '../parts/shares';
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
                  {s.listens && `, at ${s.listens}`}
                </Text>
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
            <Shares shares={shares.data} mayChange={mayChange} ask={setAsking} />
          )}
        </Part>
        <Part title="Exports, over NFS">
          {exported.data.length === 0 ? (
            <Text px="5" py="4" color="faint">
              None yet. A folder is published on its own page, or as it is made.
            </Text>
          ) : (
            <DataTable
              rows={exported.data}
              rowKey={(e) => e.path}
              columns={[
                {
                  head: 'Export',
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
                  head: 'Folder',
                  by: (e) => e.folder,
                  cell: (e) => (
                    <>
                      <ToFolder name={e.folder} tab="exports" />
                      {e.below && `/${e.below}`}
                    </>
                  ),
                },
                {
                  head: 'To which hosts',
                  cell: (e) =>
                    e.inForce.length === 0 ? (
                      <Text color="shut">none: nobody mounts it</Text>
                    ) : (
                      e.inForce
                        .slice(0, 4)
                        .map((r) => `${r.from}${r.write ? ' rw' : ''}`)
                        .join(', ') + (e.inForce.length > 4 ? ` and ${e.inForce.length - 4} more` : '')
                    ),
                  is: { whiteSpace: 'normal' },
                },
                { head: 'Written at once', cell: (e) => (e.sync ? 'yes' : 'no') },
                { head: 'Groups', cell: (e) => (e.clientGroups ? 'as the client says' : 'of the records') },
                {
                  head: '-Remove',
                  cell: (e) =>
                    mayChange && (
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
                    ),
                  is: { textAlign: 'end' },
                },
              ]}
            />
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

function Shares({ shares, mayChange, ask }: { shares: Share[]; mayChange: boolean; ask: (a: Asked) => void }) {
  const [opened, setOpened] = useState('');
  const option = (head: string, name: 'announced' | 'readOnly' | 'listOnlyOpenable'): Column<Share> => ({
    head,
    cell: (s) => <ShareOption share={s} name={name} mayChange={mayChange} ask={ask} />,
  });
  return (
    <DataTable
      label="Shares"
      rows={shares}
      rowKey={(s) => s.name}
      under={(s) => opened === s.name && <ShareEntries share={s} mayChange={mayChange} />}
      columns={[
        {
          head: 'Share',
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
              <Labels labels={s.labels} />
            </>
          ),
          is: { fontWeight: '600' },
        },
        { head: 'Folder', by: (s) => s.folder, cell: (s) => <ToFolder name={s.folder} /> },
        option('Announced', 'announced'),
        option('Read-only', 'readOnly'),
        option('Only what one may open', 'listOnlyOpenable'),
        {
          head: 'Entries of its own',
          cell: (s) => (
            <QuietButton
              size="xs"
              aria-expanded={opened === s.name}
              onClick={() => setOpened(opened === s.name ? '' : s.name)}
            >
              {s.entries.length === 0 ? 'none' : s.entries.length}
              <Text srOnly>entries of share {s.name}</Text>
            </QuietButton>
          ),
        },
        {
          head: '-Remove',
          cell: (s) =>
            mayChange && (
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
            ),
          is: { textAlign: 'end' },
        },
      ]}
    />
  );
}
