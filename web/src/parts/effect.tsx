import { Box, Stack, Text } from '@chakra-ui/react';
import { plural, t } from '@lingui/core/macro';
import { Plural, Trans } from '@lingui/react/macro';
import { useMutation, useQuery } from '@tanstack/react-query';
import { type ReactNode, useEffect, useState } from 'react';
import { api, type Change, client, type Effect, type Finding, make, Refusal, taken } from '../api/client';
import { Ask } from './confirm';
import { MainButton, QuietButton, Refused, Waiting } from './sheet';
import { DataTable } from './table';
import { sayMade } from './toaster';

export const people = (n: number) => plural(n, { one: '# person', other: '# people' });

/** How many gain and lose, before where and who. */
export function inShort(e: Effect) {
  const gain = e.gain > 0 ? plural(e.gain, { one: '# person gains', other: '# people gain' }) : '';
  const lose = e.lose > 0 ? plural(e.lose, { one: '# person loses', other: '# people lose' }) : '';
  const none = e.whence
    ? t`What people may do where they are let in stays as it is`
    : t`Nobody gains or loses anything`;
  if (!gain && !lose && e.powers.length > 0) return t`Nobody gains or loses rights on any path`;
  return [gain, lose].filter(Boolean).join(', ') || none;
}

/** What a change would do: to whom, where, and what would be wrong afterwards. */
export function EffectView({
  effect,
  onFix,
  narrow,
}: {
  effect: Effect;
  onFix?: (fix: Change[]) => void;
  /** Line by line, where there is no room for a table. */
  narrow?: boolean;
}) {
  const [all, setAll] = useState(false);
  const most = 8;
  const shown = all ? effect.changes : effect.changes.slice(0, most);
  return (
    <Stack gap="4">
      <Text fontWeight="600">
        {inShort(effect)}.
        {effect.added + effect.removed > 1 && (
          <Text as="span" color="faint" fontWeight="400">
            {' '}
            <Trans>
              <Plural value={effect.added} one="# entry" other="# entries" /> written, {effect.removed} gone.
            </Trans>
          </Text>
        )}
      </Text>
      {narrow &&
        shown.map((c) => (
          <Box key={`${c.path} ${c.objects} ${c.was.text} ${c.is.text}`}>
            <Text>
              <Text as="span" fontWeight="600" color={c.loses ? 'shut' : 'open'}>
                {c.gains && c.loses ? t`both` : c.gains ? t`gains` : t`loses`}
              </Text>{' '}
              <Text as="span" fontFamily="mono" fontSize="sm">
                {c.path}
              </Text>
              {c.objects && ` (${c.objects})`}: {c.is.text}
              {c.was.text !== 'nothing' && t`, was ${c.was.text}`}
            </Text>
            <Text fontSize="sm" color="faint">
              <Names names={c.people} count={c.count} />
            </Text>
          </Box>
        ))}
      {!narrow && shown.length > 0 && (
        <DataTable
          rows={shown}
          rowKey={(c) => `${c.path} ${c.objects} ${c.was.text} ${c.is.text}`}
          maxH="320px"
          columns={[
            {
              head: `-${t`Gains or loses`}`,
              cell: (c) => (c.gains && c.loses ? t`both` : c.gains ? t`gains` : t`loses`),
              is: (c) => ({ fontWeight: '600', color: c.loses ? 'shut' : 'open' }),
            },
            {
              head: t`On`,
              cell: (c) => (
                <>
                  <Text as="span" fontFamily="mono" fontSize="sm">
                    {c.path}
                  </Text>
                  {c.objects && (
                    <Text as="span" color="faint">
                      {' '}
                      {c.objects}
                    </Text>
                  )}
                </>
              ),
            },
            { head: t`Was`, cell: (c) => c.was.text, is: { color: 'faint' } },
            { head: t`Becomes`, cell: (c) => c.is.text },
            { head: t`For`, cell: (c) => <Names names={c.people} count={c.count} /> },
          ]}
        />
      )}
      {effect.changes.length > shown.length && (
        <Box>
          <QuietButton size="sm" onClick={() => setAll(true)}>
            <Trans>And {effect.changes.length - shown.length} more</Trans>
          </QuietButton>
        </Box>
      )}
      {effect.powers.map((p) => (
        <Text key={p.says} color={p.gains ? 'open' : 'shut'}>
          {p.says}.
        </Text>
      ))}
      {effect.whence?.map((says) => (
        <Text key={says}>{says.charAt(0).toUpperCase() + says.slice(1)}.</Text>
      ))}
      {effect.warnings.map((f) => (
        <Warning key={f.key} finding={f} onFix={onFix} />
      ))}
      {effect.fixed.map((f) => (
        <Text key={f.key} fontSize="sm" color="open">
          <Trans>
            Fixes: {f.kind}, {f.subject}.
          </Trans>
        </Text>
      ))}
    </Stack>
  );
}

function Warning({ finding, onFix }: { finding: Finding; onFix?: (fix: Change[]) => void }) {
  const adds = finding.changes?.every((c) => c.act === 'add');
  return (
    <Box bg="shut.soft" borderRadius="md" px="4" py="3" role="note">
      <Text fontWeight="600">
        <Trans>Mind: {finding.kind}</Trans>
      </Text>
      <Text fontSize="sm">
        {finding.subject}: {finding.says}.
      </Text>
      {onFix && adds && finding.changes && finding.kind === 'blocked by a parent' && (
        <QuietButton size="sm" mt="2" bg="sheet" onClick={() => onFix(finding.changes ?? [])}>
          <Trans>Let them pass as well</Trans>
        </QuietButton>
      )}
    </Box>
  );
}

/** A few names, and the others on request. */
export function Names({ names, count }: { names: string[]; count: number }) {
  const [all, setAll] = useState(false);
  if (all || count <= 4)
    return <>{names.join(', ') + (count > names.length ? t` and ${count - names.length} more` : '')}</>;
  return (
    <>
      {names.slice(0, 3).join(', ')}{' '}
      <Text as="button" color="accent" textDecoration="underline" onClick={() => setAll(true)}>
        <Trans>and {count - 3} more</Trans>
      </Text>
    </>
  );
}

/** What is asked about: what it is called, what is done, and what after that. */
export type Asked = {
  title: string;
  act: string;
  done: string;
  changes: Change[];
  after?: () => void;
  refused?: (error: Error) => boolean;
};

/** Asks about one thing at a time, with what it does and what else there is to say: the function that asks, and the dialog to be shown. */
export function useAsk(says?: ReactNode): [(what: Asked) => void, ReactNode] {
  const [asked, ask] = useState<Asked | null>(null);
  return [
    ask,
    <Previewed
      key="asked"
      title={asked?.title ?? ''}
      act={asked?.act ?? ''}
      done={asked?.done ?? ''}
      changes={asked?.changes ?? null}
      onRefused={asked?.refused}
      onClose={() => ask(null)}
      onDone={() => {
        asked?.after?.();
        ask(null);
      }}
    >
      {says}
    </Previewed>,
  ];
}

/** Shows what changes would do and asks; then makes them as one, and offers to take that back. */
export function Previewed(props: {
  title: string;
  act: string;
  changes: Change[] | null;
  children?: ReactNode;
  onClose: () => void;
  onDone: () => void;
  done: string;
  /** What is asked for instead once somebody has said that they know what the service minds. */
  knowing?: { act: string; changes: Change[] };
  /** Takes what is refused to the fields that it is about, and says whether all of it has its place there: then nothing is asked. */
  onRefused?: (error: Error) => boolean;
}) {
  const [extra, setExtra] = useState<Change[]>([]);
  const [known, setKnown] = useState(false);
  const open = props.changes !== null;
  const changes = [...((known ? props.knowing?.changes : props.changes) ?? []), ...extra];
  const close = () => {
    setExtra([]);
    setKnown(false);
    props.onClose();
  };
  const effect = useQuery({
    queryKey: ['preview', changes],
    enabled: open,
    staleTime: 0,
    gcTime: 0,
    retry: false,
    queryFn: () => taken(api.POST('/api/v1/preview', { body: { changes } })),
  });
  const { onRefused, onClose } = props;
  const refused = effect.error;
  useEffect(() => {
    if (refused && !(refused instanceof Refusal && refused.confirm) && onRefused?.(refused)) onClose();
  }, [refused, onRefused, onClose]);
  const making = useMutation({
    mutationFn: () => make(changes),
    onSuccess: async ({ row }) => {
      await client.invalidateQueries();
      sayMade(props.done, row);
      setExtra([]);
      setKnown(false);
      props.onDone();
    },
  });
  const confirm = effect.error instanceof Refusal && effect.error.confirm;
  return (
    <Ask
      wide
      title={props.title}
      open={open}
      onClose={close}
      act={
        confirm && props.knowing ? (
          <MainButton bg="shut" onClick={() => setKnown(true)}>
            {props.knowing.act}
          </MainButton>
        ) : (
          <MainButton disabled={!effect.data} loading={making.isPending} onClick={() => making.mutate()}>
            {props.act}
          </MainButton>
        )
      }
    >
      <Stack gap="4">
        {props.children}
        {making.error && <Refused error={making.error} />}
        {effect.data ? (
          <EffectView effect={effect.data} onFix={(fix) => setExtra((had) => [...had, ...fix])} />
        ) : confirm ? (
          <Text>{effect.error?.message}</Text>
        ) : (
          <Waiting error={effect.error} rows={2} />
        )}
      </Stack>
    </Ask>
  );
}
