import { Box, Field, Flex, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { t } from '@lingui/core/macro';
import { Plural, Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import { useForm } from 'react-hook-form';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { locales } from '#texts';
import { change } from '../api/change';
import { api, client, type Review, type ReviewLine, taken, useMe } from '../api/client';
import { Names, Previewed, useAsk } from '../parts/effect';
import { PickerField } from '../parts/picker';
import { MainButton, PageHead, QuietButton, Refused, Sheet, Waiting } from '../parts/sheet';
import { DataTable } from '../parts/table';
import { say, sayRefused } from '../parts/toaster';
import { listed } from '../parts/words';

const words = (text: string) => listed(text);

/** The access reviews: who has what, kept or removed line by line. */
export function Reviews() {
  const me = useMe();
  const [params] = useSearchParams();
  const [adding, setAdding] = useState(params.has('begin'));
  const reviews = useQuery({ queryKey: ['reviews'], queryFn: () => taken(api.GET('/api/v1/reviews')) });
  return (
    <>
      <PageHead title={t`Reviews`} text={t`Who has what, looked through line by line by those who are asked to.`}>
        {me.data?.role === 'administrator' && !adding && (
          <MainButton onClick={() => setAdding(true)}>
            <Trans>Begin a review</Trans>
          </MainButton>
        )}
      </PageHead>
      <VerifyRecord />
      {adding && <Begin onDone={() => setAdding(false)} />}
      {!reviews.data ? (
        <Waiting error={reviews.error} />
      ) : reviews.data.length === 0 ? (
        <Sheet p="6">
          <Text>
            <Trans>No reviews yet. One lists every entry of some folders, and who is in the groups they name.</Trans>
          </Text>
        </Sheet>
      ) : (
        <Sheet>
          <DataTable
            rows={reviews.data}
            rowKey={(r) => r.name}
            columns={[
              {
                head: t`Review`,
                cell: (r) => <Link to={`/reviews/${encodeURIComponent(r.name)}`}>{r.name}</Link>,
                is: { fontWeight: '600' },
              },
              { head: t`Folders`, cell: (r) => r.folders.join(', ') },
              { head: t`Reviewers`, cell: (r) => r.reviewers.join(', ') },
              { head: t`Keep`, cell: (r) => r.keep },
              { head: t`Remove`, cell: (r) => r.remove },
              { head: t`Undecided`, cell: (r) => r.undecided },
              { head: t`State`, cell: (r) => state(r), is: { color: 'faint' } },
            ]}
          />
        </Sheet>
      )}
    </>
  );
}

const state = (r: Review) =>
  r.closed ? t`closed ${new Date(r.closed).toLocaleDateString(locales())} by ${r.closedBy ?? ''}` : 'open';

function Begin({ onDone }: { onDone: () => void }) {
  const go = useNavigate();
  const { register, control, handleSubmit } = useForm<{ name: string; folders: string; reviewers: string }>({
    defaultValues: { name: '', folders: '', reviewers: '' },
  });
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
            <Field.Label>
              <Trans>Name</Trans>
            </Field.Label>
            <Input autoFocus autoComplete="off" placeholder={t`spring`} {...register('name', { required: true })} />
          </Field.Root>
          <Field.Root flex="1" minW="52">
            <Field.Label>
              <Trans>Folders</Trans>
            </Field.Label>
            <PickerField
              of="folder"
              several
              control={control}
              name="folders"
              placeholder={t`folders`}
              rules={{ required: true }}
            />
          </Field.Root>
          <Field.Root flex="1" minW="44">
            <Field.Label>
              <Trans>Reviewers</Trans>
            </Field.Label>
            <PickerField
              of="user"
              several
              control={control}
              name="reviewers"
              placeholder={t`auditor`}
              rules={{ required: true }}
            />
          </Field.Root>
          <QuietButton onClick={onDone}>
            <Trans>Cancel</Trans>
          </QuietButton>
          <MainButton type="submit" loading={begin.isPending}>
            <Trans>Begin</Trans>
          </MainButton>
        </Flex>
      </form>
    </Sheet>
  );
}

/** A list that was filled in elsewhere is read back. */
function MarkByFile({ name, onMarked }: { name: string; onMarked: (r: Review) => void }) {
  const mark = useMutation({
    mutationFn: async (file: File) =>
      taken(api.PUT('/api/v1/reviews/{name}/csv', { params: { path: { name } }, body: { text: await file.text() } })),
    onSuccess: (r) => {
      onMarked(r);
      say(t`The list is read.`);
    },
    onError: sayRefused,
  });
  return (
    <FileButton
      text={t`Read a list back`}
      accept=".csv,text/csv"
      busy={mark.isPending}
      onFile={(f) => mark.mutate(f)}
    />
  );
}

/** Says whether a signed record is this gateway's, and has not been altered. */
function VerifyRecord() {
  const verify = useMutation({
    mutationFn: async (file: File) => {
      const text = await file.text();
      let record: unknown;
      try {
        record = JSON.parse(text);
      } catch {
        throw new Error(t`${file.name} is no record: it is not JSON.`);
      }
      return taken(api.POST('/api/v1/reviews/verify', { body: { record } }));
    },
  });
  return (
    <Flex gap="3" mb="5" align="center" wrap="wrap" aria-live="polite">
      <FileButton
        text={t`Check a signed record`}
        accept=".json,application/json"
        busy={verify.isPending}
        onFile={(f) => verify.mutate(f)}
      />
      {verify.data && (
        <Text fontWeight="600" color={verify.data.valid ? 'open' : 'shut'}>
          {verify.data.valid
            ? t`This gateway signed it, and it is as it was.`
            : t`It is not as this gateway signed it.`}
        </Text>
      )}
      {verify.error && <Text color="shut">{verify.error.message}</Text>}
    </Flex>
  );
}

/** A button that asks for a file. */
function FileButton(props: { text: string; accept: string; busy: boolean; onFile: (file: File) => void }) {
  const input = useRef<HTMLInputElement>(null);
  return (
    <>
      <input
        ref={input}
        type="file"
        hidden
        aria-label={props.text}
        accept={props.accept}
        onChange={(e) => {
          const file = e.target.files?.[0];
          e.target.value = '';
          if (file) props.onFile(file);
        }}
      />
      <QuietButton loading={props.busy} onClick={() => input.current?.click()}>
        {props.text}
      </QuietButton>
    </>
  );
}

/** One review with its lines. */
export function ReviewPage() {
  const { name = '' } = useParams();
  const me = useMe();
  const [applying, setApplying] = useState(false);
  const [only, setOnly] = useState(false);
  const go = useNavigate();
  const [ask, dialog] = useAsk();
  const review = useQuery({
    queryKey: ['reviews', name],
    queryFn: () => taken(api.GET('/api/v1/reviews/{name}', { params: { path: { name } } })),
  });
  const mark = useMutation({
    mutationFn: (marks: { line: number; decision?: 'keep' | 'remove'; comment?: string }[]) =>
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
          <Trans>← Reviews</Trans>
        </Text>
      </Link>
      <PageHead title={r.name} text={t`${r.folders.join(', ')} – reviewed by ${r.reviewers.join(', ')} – ${state(r)}`}>
        <HStack wrap="wrap">
          <a href={`${path}/csv`}>
            <QuietButton as="span">
              <Trans>As CSV</Trans>
            </QuietButton>
          </a>
          <a href={r.closed ? `${path}/record` : `/api/v1/reports/review?of=${encodeURIComponent(r.name)}`}>
            <QuietButton as="span">{r.closed ? t`Signed record` : t`For paper`}</QuietButton>
          </a>
          {mayMark && <MarkByFile name={r.name} onMarked={(is) => client.setQueryData(['reviews', name], is)} />}
          {me.data?.role === 'administrator' && !r.closed && (
            <QuietButton
              color="shut"
              onClick={() =>
                ask({
                  title: t`Call review ${r.name} off?`,
                  act: t`Call it off`,
                  done: t`Review ${r.name} is no more; nothing was removed.`,
                  changes: [change('review', 'remove', { of: { name: r.name } })],
                  after: () => go('/reviews'),
                })
              }
            >
              <Trans>Call it off</Trans>
            </QuietButton>
          )}
          {me.data?.role === 'administrator' && !r.closed && (
            <MainButton disabled={r.undecided > 0} onClick={() => setApplying(true)}>
              <Trans>Apply and close</Trans>
            </MainButton>
          )}
        </HStack>
      </PageHead>
      <Flex justify="space-between" align="center" mb="3" gap="4" wrap="wrap">
        <Text>
          <Trans>
            {r.keep} to keep, {r.remove} to remove, {r.undecided} undecided
          </Trans>
        </Text>
        <HStack>
          <QuietButton size="sm" aria-pressed={only} onClick={() => setOnly(!only)}>
            {only ? t`Show all` : t`Only what is undecided`}
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
              <Trans>Keep all that is undecided</Trans>
            </QuietButton>
          )}
        </HStack>
      </Flex>
      <Sheet>
        <DataTable
          label={t`What is reviewed`}
          rows={lines}
          rowKey={(l) => l.number}
          columns={[
            {
              head: t`Where`,
              cell: (l) => l.path || t`group ${l.group ?? ''}`,
              is: { fontFamily: 'mono', fontSize: 'sm' },
            },
            {
              head: t`What`,
              cell: (l) => (
                <>
                  {l.says}
                  {l.comment && (
                    <Text fontSize="sm" color="faint">
                      {l.comment}
                    </Text>
                  )}
                </>
              ),
            },
            {
              head: t`People`,
              cell: (l) => <Names names={l.people} count={l.people.length} />,
              is: { color: 'faint', whiteSpace: 'normal' },
            },
            {
              head: t`Decision`,
              cell: (l) => (
                <Decision line={l} mayMark={mayMark} onMark={(m) => mark.mutate([{ line: l.number, ...m }])} />
              ),
              is: { w: '44' },
            },
          ]}
        />
      </Sheet>
      {dialog}
      {!r.closed && !mayMark && (
        <Text color="faint" fontSize="sm" mt="3">
          <Trans>
            It waits for {r.reviewers.join(', ')}, who find it at{' '}
            <Text as="span" fontFamily="mono">
              {location.origin}/reviews/{encodeURIComponent(r.name)}
            </Text>
            .
          </Trans>
        </Text>
      )}
      <Previewed
        title={t`Apply ${r.name} and close it?`}
        act={t`Apply and close`}
        changes={applying ? [{ kind: 'review', act: 'apply', of: { name: r.name } }] : null}
        done={t`${r.name} is closed and signed.`}
        onClose={() => setApplying(false)}
        onDone={() => setApplying(false)}
      >
        <Text>
          <Plural
            value={r.remove}
            one="# line is removed as one change, and the record is signed."
            other="# lines are removed as one change, and the record is signed."
          />
        </Text>
      </Previewed>
    </>
  );
}

type Mark = { decision?: 'keep' | 'remove'; comment?: string };

/** What a reviewer says of a line, or has said. */
function Decision(props: { line: ReviewLine; mayMark: boolean; onMark: (mark: Mark) => void }) {
  const { line: l, mayMark, onMark } = props;
  const [writing, setWriting] = useState(false);
  if (!mayMark)
    return (
      <Stack as="span" gap="0">
        <Text as="span" color={l.decision === 'remove' ? 'shut' : l.decision ? 'open' : 'faint'}>
          {l.decision || t`undecided`}
        </Text>
        {l.by && (
          <Text as="span" fontSize="xs" color="faint">
            {l.by}
          </Text>
        )}
      </Stack>
    );
  return (
    <Stack gap="1">
      <HStack gap="1" role="group" aria-label={t`Line ${l.number}: ${l.says}`}>
        {(['keep', 'remove'] as const).map((d) => (
          <QuietButton
            key={d}
            size="xs"
            aria-pressed={l.decision === d}
            bg={l.decision === d ? (d === 'keep' ? 'open.soft' : 'shut.soft') : undefined}
            onClick={() => onMark({ decision: l.decision === d ? undefined : d })}
          >
            {d}
          </QuietButton>
        ))}
        <QuietButton size="xs" aria-expanded={writing} onClick={() => setWriting(!writing)}>
          <Trans>note</Trans>
        </QuietButton>
      </HStack>
      {writing && (
        <Input
          size="xs"
          autoFocus
          aria-label={t`Note on line ${l.number}`}
          defaultValue={l.comment}
          maxLength={500}
          onBlur={(e) => {
            setWriting(false);
            if (e.target.value !== (l.comment ?? ''))
              onMark({ decision: l.decision || undefined, comment: e.target.value });
          }}
          onKeyDown={(e) => e.key === 'Enter' && e.currentTarget.blur()}
        />
      )}
    </Stack>
  );
}
