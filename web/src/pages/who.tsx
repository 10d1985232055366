import { Field, Flex, Heading, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { useQuery } from '@tanstack/react-query';
import { useForm } from 'react-hook-form';
import { Link, useSearchParams } from 'react-router';
import { api, fileAt, taken } from '../api/client';
import { Holders } from '../parts/holders';
import { Both } from '../parts/level';
import { PickerField } from '../parts/picker';
import { MainButton, PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';

/** Who can, and what can she: everybody on one path, or every path of one user. */
export function Who() {
  const [params, setParams] = useSearchParams();
  const path = params.get('path') ?? '';
  const user = params.get('user') ?? '';
  const { control, handleSubmit } = useForm({ values: { path, user } });
  return (
    <>
      <PageHead
        title={t`Who`}
        text={t`Everybody who may do something to a path, or everything that one user gets to.`}
      />
      <Flex gap="4" mb="6" direction={{ base: 'column', md: 'row' }}>
        <Sheet p="4" flex="1">
          <form onSubmit={handleSubmit((f) => setParams({ path: f.path.trim() }))}>
            <Flex gap="3" align="end">
              <Field.Root flex="1">
                <Field.Label>
                  <Trans>Who may do what on</Trans>
                </Field.Label>
                <PickerField of="path" mono control={control} name="path" placeholder={t`folder/path`} />
              </Field.Root>
              <MainButton type="submit">
                <Trans>List</Trans>
              </MainButton>
            </Flex>
          </form>
        </Sheet>
        <Sheet p="4" flex="1">
          <form onSubmit={handleSubmit((f) => setParams({ user: f.user.trim() }))}>
            <Flex gap="3" align="end">
              <Field.Root flex="1">
                <Field.Label>
                  <Trans>Where does this user get</Trans>
                </Field.Label>
                <PickerField of="user" control={control} name="user" placeholder={t`user`} />
              </Field.Root>
              <MainButton type="submit">
                <Trans>Show</Trans>
              </MainButton>
            </Flex>
          </form>
        </Sheet>
      </Flex>
      {path && <Holders path={path} />}
      {user && <Reach user={user} />}
      {!path && !user && (
        <Text color="faint">
          <Trans>Name a path, such as plates, or a user, such as isolde.</Trans>
        </Text>
      )}
    </>
  );
}

function Reach({ user }: { user: string }) {
  const reach = useQuery({
    queryKey: ['reach', user],
    queryFn: () => taken(api.GET('/api/v1/reach', { params: { query: { user } } })),
  });
  if (reach.error) return <Refused error={reach.error} />;
  if (!reach.data) return <Waiting error={null} />;
  return (
    <>
      <Flex justify="space-between" align="center" mb="3">
        <Heading as="h2" fontSize="lg">
          <Trans>{reach.data.user} gets to</Trans>
        </Heading>
        <a href={fileAt(`/api/v1/reports/person?of=${encodeURIComponent(reach.data.user)}`)}>
          <QuietButton as="span" size="sm">
            <Trans>For paper</Trans>
          </QuietButton>
        </a>
      </Flex>
      <Sheet>
        {reach.data.spots.length === 0 ? (
          <Text px="4" py="3" color="faint">
            <Trans>Nothing.</Trans>
          </Text>
        ) : (
          <DataTable
            rows={reach.data.spots}
            rowKey={(s) => s.path}
            columns={[
              {
                head: t`Path`,
                cell: (s) => (
                  <Stack as="span" ps={`${1.25 * (s.path.split('/').length - 1)}rem`}>
                    <Link to={`/who?path=${encodeURIComponent(s.path)}`}>{s.path}</Link>
                  </Stack>
                ),
                is: { fontFamily: 'mono', fontSize: 'sm' },
              },
              { head: t`Level from here on`, cell: (s) => <Both level={s.level} /> },
            ]}
          />
        )}
      </Sheet>
    </>
  );
}
