import { Field, Flex, Heading, Stack, Text } from '@chakra-ui/react';
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
      <PageHead title="Who" text="Everybody who may do something to a path, or everything that one user gets to." />
      <Flex gap="4" mb="6" direction={{ base: 'column', md: 'row' }}>
        <Sheet p="4" flex="1">
          <form onSubmit={handleSubmit((f) => setParams({ path: f.path.trim() }))}>
            <Flex gap="3" align="end">
              <Field.Root flex="1">
                <Field.Label>Who may do what on</Field.Label>
                <PickerField of="path" mono control={control} name="path" placeholder="folder/path" />
              </Field.Root>
              <MainButton type="submit">List</MainButton>
            </Flex>
          </form>
        </Sheet>
        <Sheet p="4" flex="1">
          <form onSubmit={handleSubmit((f) => setParams({ user: f.user.trim() }))}>
            <Flex gap="3" align="end">
              <Field.Root flex="1">
                <Field.Label>Where does this user get</Field.Label>
                <PickerField of="user" control={control} name="user" placeholder="user" />
              </Field.Root>
              <MainButton type="submit">Show</MainButton>
            </Flex>
          </form>
        </Sheet>
      </Flex>
      {path && <Holders path={path} />}
      {user && <Reach user={user} />}
      {!path && !user && <Text color="faint">Name a path, such as plates, or a user, such as isolde.</Text>}
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
          {reach.data.user} gets to
        </Heading>
        <a href={fileAt(`/api/v1/reports/person?of=${encodeURIComponent(reach.data.user)}`)}>
          <QuietButton as="span" size="sm">
            For paper
          </QuietButton>
        </a>
      </Flex>
      <Sheet>
        {reach.data.spots.length === 0 ? (
          <Text px="4" py="3" color="faint">
            Nothing.
          </Text>
        ) : (
          <DataTable
            rows={reach.data.spots}
            rowKey={(s) => s.path}
            columns={[
              {
                head: 'Path',
                cell: (s) => (
                  <Stack as="span" ps={`${1.25 * (s.path.split('/').length - 1)}rem`}>
                    <Link to={`/who?path=${encodeURIComponent(s.path)}`}>{s.path}</Link>
                  </Stack>
                ),
                is: { fontFamily: 'mono', fontSize: 'sm' },
              },
              { head: 'Level from here on', cell: (s) => <Both level={s.level} /> },
            ]}
          />
        )}
      </Sheet>
    </>
  );
}
