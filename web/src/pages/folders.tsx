import { Box, HStack, Text } from '@chakra-ui/react';
import { plural, t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
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
        <PageHead title={t`Folders`} />
        <Sheet p="8">
          <Text fontWeight="600" mb="1">
            <Trans>No folders yet</Trans>
          </Text>
          <Text color="faint" mb="4">
            <Trans>A folder is a directory on a volume that can be published.</Trans>
          </Text>
          {mayChange && (
            <Link to="/folders/new">
              <MainButton as="span">
                <Trans>Make one</Trans>
              </MainButton>
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
        title={t`Folders`}
        text={
          label
            ? t`${shown.length} of ${folders.data.length} folders: those marked ${label}`
            : plural(folders.data.length, {
                one: '# folder, and where it is published',
                other: '# folders, and where each is published',
              })
        }
      >
        <HStack>
          {label && (
            <Link to="/folders">
              <QuietButton as="span">
                <Trans>All folders</Trans>
              </QuietButton>
            </Link>
          )}
          {mayChange && <NewFolderLink />}
        </HStack>
      </PageHead>
      <Sheet>
        <DataTable
          label={t`Folders`}
          rows={shown}
          rowKey={(f) => f.name}
          columns={[
            {
              head: t`Folder`,
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
              head: t`Published as`,
              cell: (f) => <Ways folder={f} />,
              is: { hideBelow: 'md' },
              headIs: { hideBelow: 'md' },
            },
            {
              head: t`Volume`,
              by: (f) => f.volume,
              cell: (f) => f.volume,
              is: { hideBelow: 'md' },
              headIs: { hideBelow: 'md' },
            },
            {
              head: t`Entries`,
              cell: (f) => (f.permissions === 'unix' ? t`by mode` : f.places.reduce((n, p) => n + p.explicit, 0)),
              is: { textAlign: 'end', hideBelow: 'sm' },
              headIs: { textAlign: 'end', hideBelow: 'sm' },
            },
          ]}
        />
      </Sheet>
    </>
  );
}
