import { Box, HStack, Table, Text } from '@chakra-ui/react';
import { Link, useSearchParams } from 'react-router';
import { type Folder, useFolders, useMe } from '../api/client';
import { FolderIcon } from '../parts/icons';
import { Labels } from '../parts/labels';
import { NewFolderLink } from '../parts/new-folder-link';
import { MainButton, PageHead, QuietButton, Sheet, Waiting } from '../parts/sheet';

/** One way in which a folder is published. */
function PublishedAs({ text, notes, on }: { text: string; notes: string; on: boolean }) {
  return (
    <HStack
      as="span"
      display="inline-flex"
      gap="1.5"
      px="2"
      py="0.5"
      borderRadius="full"
      borderWidth="1px"
      borderColor={on ? 'line' : 'shut'}
      fontSize="sm"
      whiteSpace="nowrap"
    >
      <Box boxSize="2" borderRadius="full" bg={on ? 'open' : 'shut'} aria-hidden />
      {text}
      {notes && <Text color="faint">{notes}</Text>}
      {!on && (
        <Text color="shut" fontWeight="600">
          service off
        </Text>
      )}
    </HStack>
  );
}

/** Every way in which a folder is published. */
export function Ways({ folder }: { folder: Folder }) {
  if (folder.shares.length + folder.exports.length === 0) return <Text color="faint">not published</Text>;
  return (
    <HStack wrap="wrap" gap="1.5">
      {folder.shares.map((s) => (
        <PublishedAs
          key={s.name}
          text={`SMB ${s.name}`}
          notes={[s.readOnly && 'read-only', !s.announced && 'hidden'].filter(Boolean).join(', ')}
          on={s.on}
        />
      ))}
      {folder.exports.map((e) => (
        <PublishedAs
          key={e.path}
          text={`NFS ${e.path}`}
          notes={e.rules === 0 ? 'no client rules' : (e.below ?? '')}
          on={e.on}
        />
      ))}
    </HStack>
  );
}

export function Folders() {
  const folders = useFolders();
  const [params] = useSearchParams();
  const mayChange = useMe().data?.role === 'administrator';
  const label = params.get('label');
  if (!folders.data) return <Waiting error={folders.error} />;
  if (folders.data.length === 0)
    return (
      <>
        <PageHead title="Folders" />
        <Sheet p="8">
          <Text fontWeight="600" mb="1">
            No folders yet
          </Text>
          <Text color="faint" mb="4">
            A folder is a directory on a volume that can be published.
          </Text>
          {mayChange && (
            <Link to="/folders/new">
              <MainButton as="span">Make one</MainButton>
            </Link>
          )}
        </Sheet>
      </>
    );
  const [key = '', value] = (label ?? '').split('=');
  const shown = label ? folders.data.filter((f) => f.labels?.[key] === value) : folders.data;
  return (
    <>
      <PageHead
        title="Folders"
        text={
          label
            ? `${shown.length} of ${folders.data.length} folders: those marked ${label}`
            : `${folders.data.length} folders, and where each is published`
        }
      >
        <HStack>
          {label && (
            <Link to="/folders">
              <QuietButton as="span">All folders</QuietButton>
            </Link>
          )}
          {mayChange && <NewFolderLink />}
        </HStack>
      </PageHead>
      <Sheet>
        <Table.ScrollArea position="relative">
          <Table.Root size="md" interactive css={{ '& td, & th': { borderColor: 'line', bg: 'sheet' } }}>
            <Table.Header>
              <Table.Row>
                <Table.ColumnHeader color="faint">Folder</Table.ColumnHeader>
                <Table.ColumnHeader color="faint" hideBelow="md">
                  Published as
                </Table.ColumnHeader>
                <Table.ColumnHeader color="faint" hideBelow="md">
                  Volume
                </Table.ColumnHeader>
                <Table.ColumnHeader color="faint" textAlign="end" hideBelow="sm">
                  Entries
                </Table.ColumnHeader>
              </Table.Row>
            </Table.Header>
            <Table.Body>
              {shown.map((f) => (
                <Table.Row key={f.name} _hover={{ '& td': { bg: 'sunk' } }}>
                  <Table.Cell>
                    <HStack gap="3" align="start">
                      <FolderIcon boxSize="5" color="accent" mt="0.5" />
                      <Box>
                        <Link to={`/folders/${encodeURIComponent(f.name)}`}>
                          <Text
                            fontWeight="600"
                            textDecoration="underline"
                            textDecorationColor="line"
                            textUnderlineOffset="3px"
                          >
                            {f.name}
                          </Text>
                        </Link>
                        <Text color="faint" fontSize="sm">
                          {f.description}
                        </Text>
                        <Labels labels={f.labels} list="/folders" />
                        <Box hideFrom="md" mt="2">
                          <Ways folder={f} />
                        </Box>
                      </Box>
                    </HStack>
                  </Table.Cell>
                  <Table.Cell hideBelow="md">
                    <Ways folder={f} />
                  </Table.Cell>
                  <Table.Cell hideBelow="md">{f.volume}</Table.Cell>
                  <Table.Cell textAlign="end" hideBelow="sm">
                    {f.permissions === 'unix' ? 'by mode' : f.places.reduce((n, p) => n + p.explicit, 0)}
                  </Table.Cell>
                </Table.Row>
              ))}
            </Table.Body>
          </Table.Root>
        </Table.ScrollArea>
      </Sheet>
    </>
  );
}
