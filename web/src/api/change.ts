import { t } from '@lingui/core/macro';
import type { Change, Level } from './client';

/** What a change takes besides its kind and act. */
export type Rest<K extends Change['kind'], A extends Change['act']> = Omit<
  Extract<Change, { kind: K; act: A }>,
  'kind' | 'act'
>;

/** A change, whose parts are what the service says that this act on this kind takes. */
export const change = <K extends Change['kind'], A extends Change['act']>(kind: K, act: A, rest: Rest<K, A>): Change =>
  ({ kind, act, ...rest }) as unknown as Change;

/** What entries reach, by the words that people use for it. */
export const reaching = {
  below: { text: t`here and below`, applies: undefined },
  here: { text: t`here only`, applies: ['folder'] },
  under: { text: t`only below`, applies: ['subfolders', 'files'] },
  folders: { text: t`directories only`, applies: ['folder', 'subfolders'] },
  files: { text: t`files only`, applies: ['files'] },
  direct: { text: t`here and directly in it`, applies: ['folder', 'subfolders', 'files', 'direct'] },
} as const satisfies Record<string, { text: string; applies: readonly string[] | undefined }>;

export type Reaching = keyof typeof reaching;

/** The words for what an entry reaches. */
export function reachOf(applies: readonly string[] | null | undefined): Reaching | undefined {
  const is = [...(applies ?? [])].sort().join();
  const whole = ['folder', 'subfolders', 'files'].sort().join();
  if (is === '' || is === whole) return 'below';
  return (Object.keys(reaching) as Reaching[]).find((r) => [...(reaching[r].applies ?? [])].sort().join() === is);
}

type Applies = NonNullable<Rest<'entry', 'add'>['with']['applies']>;
const appliesOf = (r: Reaching): Applies | undefined => {
  const a = reaching[r].applies;
  return a ? ([...a] as Applies) : undefined;
};

/** The rights that entries are made of, as RFC 8881 section 6.2.1.3 names them, and what each lets one do. */
export const rights: { name: string; does: string }[] = [
  { name: 'read_data', does: t`read files, list directories` },
  { name: 'write_data', does: t`write files, make files` },
  { name: 'append_data', does: t`lengthen files, make directories` },
  { name: 'execute', does: t`run files, go through directories` },
  { name: 'delete', does: t`remove it` },
  { name: 'delete_child', does: t`remove what is in it` },
  { name: 'read_attributes', does: t`see size and times` },
  { name: 'write_attributes', does: t`set times` },
  { name: 'read_named_attrs', does: t`read extended attributes` },
  { name: 'write_named_attrs', does: t`write extended attributes` },
  { name: 'read_acl', does: t`see who may` },
  { name: 'write_acl', does: t`decide who may` },
  { name: 'write_owner', does: t`become its owner` },
  { name: 'synchronize', does: t`wait for it` },
];

/** The end of a day, as whoever picks it means it. */
export function endOfDay(day: string) {
  const end = new Date(`${day}T00:00`);
  end.setDate(end.getDate() + 1);
  return end.toISOString();
}

/** What is filled in of an entry. */
export type EntryFilled = {
  act: 'allow' | 'deny';
  who: string;
  level: Level | 'rights';
  rights: string[];
  reaches: Reaching;
  ends: string;
  note: string;
  through: boolean;
};

const levelOf = (f: EntryFilled) => (f.level === 'rights' ? f.rights.join(',') : f.level);

/** An entry on a path for each of those who are named. */
export const entriesAdded = (path: string, names: string[], f: EntryFilled): Change[] =>
  names.map((who) =>
    change('entry', 'add', {
      with: {
        path,
        who,
        deny: f.act === 'deny',
        level: levelOf(f),
        note: f.note || undefined,
        ends: f.ends ? endOfDay(f.ends) : undefined,
        applies: appliesOf(f.reaches),
        ...(f.through && f.act === 'allow' && { through: true }),
      },
    }),
  );

/** What becomes of an entry: only what is otherwise. */
export function entryChanged(path: string, id: number, was: EntryFilled, is: EntryFilled): Change[] {
  const to: Rest<'entry', 'change'>['with'] = {};
  if (levelOf(is) !== levelOf(was)) to.level = levelOf(is);
  if (is.note !== was.note) to.note = is.note;
  if (is.reaches !== was.reaches) to.applies = appliesOf(is.reaches) ?? ['folder', 'subfolders', 'files'];
  if (is.ends !== was.ends) {
    if (is.ends) to.ends = endOfDay(is.ends);
    else to.endless = true;
  }
  return Object.keys(to).length === 0 ? [] : [change('entry', 'change', { of: { path, id }, with: to })];
}
