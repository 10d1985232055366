import { Box, Field, Flex, HStack, Input, Stack, Table, Text } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link, useNavigate, useParams } from 'react-router';
import { api, client, type Review, type ReviewLine, taken, useFolders, useMe } from '../api/client';
import { Names, Previewed } from '../parts/effect';
import { Grid } from '../parts/grid';
import { MainButton, PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { sayRefused } from '../parts/toaster';
import { listed } from '../parts/words';

const words = (text: string) => listed(text);

/** The access reviews: who has what, kept or removed line by line. */
export function Reviews() {
  const me = useMe();
  const [adding, setAdding] = useState(false);
  const reviews = useQuery({ queryKey: ['reviews'], queryFn: () => taken(api.GET('/api/v1/reviews')) });
  return (
    <>
      <PageHead title="Reviews" text="Who has what, looked through line by line by those who are asked to.">
        {me.data?.role === 'administrator' && !adding && (
          <MainButton onClick={() => setAdding(true)}>Begin a review</MainButton>
        )}
      </PageHead>
      {adding && <Begin onDone={() => setAdding(false)} />}
      {!reviews.data ? (
        <Waiting error={reviews.error} />
      ) : reviews.data.length === 0 ? (
        <Sheet p="6">
          <Text>No reviews yet. One lists every entry of some folders, and who is in the groups they name.</Text>
        </Sheet>
      ) : (
        <Sheet>
          <Grid head={['Review', 'Folders', 'Reviewers', 'Keep', 'Remove', 'Undecided', 'State']}>
            {reviews.data.map((r) => (
              <Table.Row key={r.name}>
                <Table.Cell fontWeight="600">
                  <Link to={`/reviews/${encodeURIComponent(r.name)}`}>{r.name}</Link>
                </Table.Cell>
                <Table.Cell>{r.folders.join(', ')}</Table.Cell>
                <Table.Cell>{r.reviewers.join(', ')}</Table.Cell>
                <Table.Cell>{r.keep}</Table.Cell>
                <Table.Cell>{r.remove}</Table.Cell>
                <Table.Cell>{r.undecided}</Table.Cell>
                <Table.Cell color="faint">{state(r)}</Table.Cell>
              </Table.Row>
            ))}
          </Grid>
        </Sheet>
      )}
    </>
  );
}

const state = (r: Review) => (r.closed ? `closed ${new Date(r.closed).toLocaleDateString()} by ${r.closedBy}` : 'open');

function Begin({ onDone }: { onDone: () => void }) {
  const folders = useFolders();
  const go = useNavigate();
  const { register, handleSubmit } = useForm<{ name: string; folders: string; reviewers: string }>();
  const begin = useMutation({
    mutationFn: (f: { name: string; folders: string; reviewers: string }) =>
      taken(
        api.POST('/api/v1/reviews', {
          body: { name: f.name.trim(), folders: words(f.folders), reviewers: words(f.reviewers) },
        }),
      ),
    onSuccess: async (r) => {
      await client.invalidateQueries({ queryKey: ['reviews'] });
      onDone();
      go(`/reviews/${encodeURIComponent(r.name)}`);
    },
  });
  return (
    <Sheet p="4" mb="5">
      <form onSubmit={handleSubmit((f) => begin.mutate(f))}>
        {begin.error && (
          <Box mb="4">
            <Refused error={begin.error} />
          </Box>
        )}
        <Flex gap="3" wrap="wrap" align="end">
          <Field.Root w="44">
            <Field.Label>Name</Field.Label>
            <Input autoFocus autoComplete="off" placeholder="spring" {...register('name', { required: true })} />
          </Field.Root>
          <Field.Root flex="1" minW="52">
            <Field.Label>Folders</Field.Label>
            <Input
              autoComplete="off"
              placeholder={folders.data?.map((f) => f.name).join(', ')}
              {...register('folders', { required: true })}
            />
          </Field.Root>
          <Field.Root flex="1" minW="44">
            <Field.Label>Reviewers</Field.Label>
            <Input autoComplete="off" placeholder="auditor" {...register('reviewers', { required: true })} />
          </Field.Root>
          <QuietButton onClick={onDone}>Cancel</QuietButton>
          <MainButton type="submit" loading={begin.isPending}>
            Begin
          </MainButton>
        </Flex>
      </form>
    </Sheet>
  );
}

/** One review with its lines. */
export function ReviewPage() {
  const { name = '' } = useParams();
  const me = useMe();
  const [applying, setApplying] = useState(false);
  const [only, setOnly] = useState(false);
  const review = useQuery({
    queryKey: ['reviews', name],
    queryFn: () => taken(api.GET('/api/v1/reviews/{name}', { params: { path: { name } } })),
  });
  const mark = useMutation({
    mutationFn: (marks: { line: number; decision?: 'keep' | 'remove' }[]) =>
      taken(api.PATCH('/api/v1/reviews/{name}/lines', { params: { path: { name } }, body: { marks } })),
    onSuccess: (r) => client.setQueryData(['reviews', name], r),
    onError: sayRefused,
  });
  if (!review.data) return <Waiting error={review.error} />;
  const r = review.data;
  const mayMark = !r.closed && r.reviewers.includes(me.data?.user ?? '');
  const lines = (r.lines ?? []).filter((l) => !only || !l.decision);
  const path = `/api/v1/reviews/${encodeURIComponent(r.name)}`;
  return (
    <>
      <Link to="/reviews">
        <Text color="faint" fontSize="sm" mb="2">
          ← Reviews
        </Text>
      </Link>
      <PageHead title={r.name} text={`${r.folders.join(', ')} – reviewed by ${r.reviewers.join(', ')} – ${state(r)}`}>
        <HStack wrap="wrap">
          <a href={`${path}/csv`}>
            <QuietButton as="span">As CSV</QuietButton>
          </a>
          <a href={r.closed ? `${path}/record` : `/api/v1/reports/review?of=${encodeURIComponent(r.name)}`}>
            <QuietButton as="span">{r.closed ? 'Signed record' : 'For paper'}</QuietButton>
          </a>
          {me.data?.role === 'administrator' && !r.closed && (
            <MainButton disabled={r.undecided > 0} onClick={() => setApplying(true)}>
              Apply and close
            </MainButton>
          )}
        </HStack>
      </PageHead>
      <Flex justify="space-between" align="center" mb="3" gap="4" wrap="wrap">
        <Text>
          {r.keep} to keep, {r.remove} to remove, {r.undecided} undecided
        </Text>
        <HStack>
          <QuietButton size="sm" aria-pressed={only} onClick={() => setOnly(!only)}>
            {only ? 'Show all' : 'Only what is undecided'}
          </QuietButton>
          {mayMark && r.undecided > 0 && (
            <QuietButton
              size="sm"
              loading={mark.isPending}
              onClick={() =>
                mark.mutate(
                  (r.lines ?? []).filter((l) => !l.decision).map((l) => ({ line: l.number, decision: 'keep' })),
                )
              }
            >
              Keep all that is undecided
            </QuietButton>
          )}
        </HStack>
      </Flex>
      <Sheet>
        <Grid head={['Where', 'What', 'People', 'Decision']}>
          {lines.map((l) => (
            <Line
              key={l.number}
              line={l}
              mayMark={mayMark}
              onMark={(decision) => mark.mutate([{ line: l.number, decision }])}
            />
          ))}
        </Grid>
      </Sheet>
      <Previewed
        title={`Apply ${r.name} and close it?`}
        act="Apply and close"
        changes={applying ? [{ kind: 'review', act: 'apply', of: { name: r.name } }] : null}
        done={`${r.name} is closed and signed.`}
        onClose={() => setApplying(false)}
        onDone={() => setApplying(false)}
      >
        <Text>{r.remove} lines are removed as one change, and the record is signed.</Text>
      </Previewed>
    </>
  );
}

function Line(props: { line: ReviewLine; mayMark: boolean; onMark: (decision?: 'keep' | 'remove') => void }) {
  const { line: l } = props;
  return (
    <Table.Row>
      <Table.Cell fontFamily="mono" fontSize="sm">
        {l.path || `group ${l.group}`}
      </Table.Cell>
      <Table.Cell>
        {l.says}
        {l.comment && (
          <Text fontSize="sm" color="faint">
            {l.comment}
          </Text>
        )}
      </Table.Cell>
      <Table.Cell color="faint">
        <Names names={l.people} count={l.people.length} />
      </Table.Cell>
      <Table.Cell w="44">
        {props.mayMark ? (
          <HStack gap="1" role="group" aria-label={`Line ${l.number}: ${l.says}`}>
            {(['keep', 'remove'] as const).map((d) => (
              <QuietButton
                key={d}
                size="xs"
                aria-pressed={l.decision === d}
                bg={l.decision === d ? (d === 'keep' ? 'open.soft' : 'shut.soft') : undefined}
                onClick={() => props.onMark(l.decision === d ? undefined : d)}
              >
                {d}
              </QuietButton>
            ))}
          </HStack>
        ) : (
          <Stack as="span" gap="0">
            <Text as="span" color={l.decision === 'remove' ? 'shut' : l.decision ? 'open' : 'faint'}>
              {l.decision || 'undecided'}
            </Text>
            {l.by && (
              <Text as="span" fontSize="xs" color="faint">
                {l.by}
              </Text>
            )}
          </Stack>
        )}
      </Table.Cell>
    </Table.Row>
  );
}
