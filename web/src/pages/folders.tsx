import { Box, HStack, Text } from '@chakra-ui/react';
import { Link, useSearchParams } from 'react-router';
import { useFolders, useMe } from '../api/client';
import { FolderIcon } from '../parts/icons';
import { Labels } from '../parts/labels';
import { NewFolderLink } from '../parts/new-folder-link';
import { MainButton, PageHead, QuietButton, Sheet, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { Ways } from '../parts/ways';

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
        <DataTable
          label="Folders"
          rows={shown}
          rowKey={(f) => f.name}
          columns={[
            {
              head: 'Folder',
              by: (f) => f.name,
              cell: (f) => (
                <HStack gap="3" align="start">
                  <FolderIcon boxSize="5" color="accent" mt="0.5" />
                  <Box>
                    <Link to={`/folders/${encodeURIComponent(f.name)}`}>
                      <Text
                        fontWeight="600"
                        textDecoration="underline"
                        textDecorationColor="line"
                        textUnderlineOffset="3px"
                        wordBreak="break-word"
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
              ),
              is: { py: '3' },
            },
            {
              head: 'Published as',
              cell: (f) => <Ways folder={f} />,
              is: { hideBelow: 'md' },
              headIs: { hideBelow: 'md' },
            },
            {
              head: 'Volume',
              by: (f) => f.volume,
              cell: (f) => f.volume,
              is: { hideBelow: 'md' },
              headIs: { hideBelow: 'md' },
            },
            {
              head: 'Entries',
              cell: (f) => (f.permissions === 'unix' ? 'by mode' : f.places.reduce((n, p) => n + p.explicit, 0)),
              is: { textAlign: 'end', hideBelow: 'sm' },
              headIs: { textAlign: 'end', hideBelow: 'sm' },
            },
          ]}
        />
      </Sheet>
    </>
  );
}
