import { Text } from '@chakra-ui/react';
import { plural, t } from '@lingui/core/macro';
import { Trans } from '@lingui/react/macro';
import { Link } from 'react-router';
import type { Open, Session } from '../api/live';
import { Moment } from './moment';
import { QuietButton } from './sheet';
import { type Column, DataTable } from './table';
import { size, span } from './use';

type Who = Session['who'][number];

/** What somebody is called who has come: nobody whom the records know comes with a number alone. */
export const called = (w: Who) => w.user ?? (w.uid === undefined ? t`nobody` : t`uid ${w.uid}`);

function People({ who }: { who: Who[] }) {
  const few = who.slice(0, 3);
  return (
    <>
      {few.map((w, i) => (
        <span key={`${w.user} ${w.uid}`}>
          {i > 0 && ', '}
          {w.user ? (
            <Link to={`/people/${encodeURIComponent(w.user)}`}>{w.user}</Link>
          ) : (
            <Text as="span" color="shut">
              {called(w)}
            </Text>
          )}
        </span>
      ))}
      {who.length > few.length && ` ${plural(who.length - few.length, { one: 'and # more', other: 'and # more' })}`}
      {who.length === 0 && '–'}
    </>
  );
}

const Host = ({ address, host }: { address: string; host?: string }) => (
  <Text as="span" title={address}>
    {host ?? address}
  </Text>
);

const end = { textAlign: 'end', fontVariantNumeric: 'tabular-nums' } as const;

/** Who is connected; each can be ended where somebody may. */
export function SessionTable(props: { rows: Session[]; onEnd?: (s: Session) => void; maxH?: string }) {
  const columns: Column<Session>[] = [
    {
      head: t`Who`,
      cell: (s) => (
        <>
          <People who={s.who} />
          {s.guest && (
            <Text as="span" color="faint" fontWeight="400">
              {' '}
              <Trans>without an account</Trans>
            </Text>
          )}
        </>
      ),
      is: { fontWeight: '600' },
      by: (s) => s.who.map(called).join(),
    },
    { head: t`From`, cell: (s) => <Host {...s} />, by: (s) => s.host ?? s.address },
    {
      head: t`Over`,
      cell: (s) => `${s.via.toUpperCase()} ${s.version}`,
      is: (s) => ({
        title: s.sealing ? t`encrypted by ${s.sealing}` : s.signing ? t`signed by ${s.signing}` : t`not signed`,
      }),
      by: (s) => `${s.via} ${s.version}`,
    },
    { head: t`Through`, cell: (s) => s.through.join(', '), is: { maxW: '180px', truncate: true } },
    { head: t`Since`, cell: (s) => <Moment at={s.since} />, by: (s) => s.since },
    { head: t`Idle`, cell: (s) => (s.idle < 60 ? t`${s.idle} s` : span(s.idle)), by: (s) => s.idle },
    { head: t`Read`, cell: (s) => size(s.read), is: end, headIs: end, by: (s) => s.read },
    { head: t`Written`, cell: (s) => size(s.written), is: end, headIs: end, by: (s) => s.written },
    { head: t`Open`, cell: (s) => s.opens, is: end, headIs: end, by: (s) => s.opens },
  ];
  const { onEnd } = props;
  if (onEnd)
    columns.push({
      head: `-${t`End it`}`,
      cell: (s) => (
        <QuietButton
          size="xs"
          onClick={() => onEnd(s)}
          aria-label={t`End the session of ${s.who.map(called).join(', ')}`}
        >
          <Trans>End</Trans>
        </QuietButton>
      ),
      is: { textAlign: 'end' },
    });
  return <DataTable label={t`Sessions`} rows={props.rows} rowKey={(s) => s.id} columns={columns} maxH={props.maxH} />;
}

/** What an open was opened for. */
const purpose = (o: Open) => {
  const words: Record<string, string> = { read: t`read`, write: t`write`, delete: t`delete`, control: t`control` };
  const what = o.does.map((does) => words[does] ?? does).join(', ') || t`a look`;
  return o.delegated ? t`${what} (delegated)` : what;
};

/** What is open; each can be closed where somebody may. */
export function OpenTable(props: { rows: Open[]; onClose?: (o: Open) => void; maxH?: string }) {
  const columns: Column<Open>[] = [
    {
      head: t`What`,
      cell: (o) => (o.kind === 'pipe' ? t`pipe ${o.path}` : o.kind === 'directory' ? `${o.path}/` : o.path),
      is: { fontFamily: 'mono', fontSize: 'sm', maxW: '360px', truncate: true },
      by: (o) => o.path,
    },
    { head: t`Who`, cell: (o) => <People who={[o.who]} />, is: { fontWeight: '600' }, by: (o) => called(o.who) },
    { head: t`From`, cell: (o) => <Host {...o} />, by: (o) => o.host ?? o.address },
    { head: t`For`, cell: purpose, by: purpose },
    { head: t`Keeps others from`, cell: (o) => o.keeps.join(', ') || '–' },
    {
      head: t`Locks`,
      cell: (o) => o.locks.length || '',
      is: (o) => ({
        ...end,
        title: o.locks
          .slice(0, 10)
          .map((l) => `${l.offset}–${l.length === undefined ? '' : l.offset + l.length}`)
          .join(', '),
      }),
      headIs: end,
      by: (o) => o.locks.length,
    },
    { head: t`Since`, cell: (o) => <Moment at={o.since} />, by: (o) => o.since },
  ];
  const { onClose } = props;
  if (onClose)
    columns.push({
      head: `-${t`Close it`}`,
      cell: (o) => (
        <QuietButton size="xs" onClick={() => onClose(o)} aria-label={t`Close ${o.path}, open for ${called(o.who)}`}>
          <Trans>Close</Trans>
        </QuietButton>
      ),
      is: { textAlign: 'end' },
    });
  return (
    <DataTable label={t`What is open`} rows={props.rows} rowKey={(o) => o.id} columns={columns} maxH={props.maxH} />
  );
}
