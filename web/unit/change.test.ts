import { describe, expect, it } from 'vitest';
import {
  change,
  type EntryFilled,
  entriesAdded,
  entryChanged,
  type Reaching,
  reaching,
  reachOf,
  rights,
} from '../src/api/change';

const filled: EntryFilled = {
  act: 'allow',
  who: 'orla',
  level: 'read',
  rights: [],
  reaches: 'below',
  ends: '',
  note: '',
  through: false,
};

describe('what entries reach', () => {
  it.each(Object.keys(reaching) as Reaching[])('is found again by what it is made of: %s', (name) => {
    const applies = [...(reaching[name].applies ?? ['folder', 'subfolders', 'files'])];
    expect(reachOf(applies)).toBe(name);
    expect(reachOf(applies.reverse()), 'in whatever order').toBe(name);
  });
  it('is unknown where nobody has a word for it', () => {
    expect(reachOf(['subfolders'])).toBeUndefined();
    expect(reachOf(['files', 'direct'])).toBeUndefined();
  });
  it('is all of it where nothing is said', () => expect(reachOf(null)).toBe('below'));
});

describe('entries that are added', () => {
  it('are one for each who is named, and say no more than what was filled in', () => {
    expect(entriesAdded('plates', ['orla', 'staff'], filled)).toEqual([
      { kind: 'entry', act: 'add', with: { path: 'plates', who: 'orla', deny: false, level: 'read' } },
      { kind: 'entry', act: 'add', with: { path: 'plates', who: 'staff', deny: false, level: 'read' } },
    ]);
    expect(entriesAdded('plates', [], filled)).toEqual([]);
  });
  it('have exact rights where those are chosen', () => {
    const [one] = entriesAdded('plates', ['orla'], { ...filled, level: 'rights', rights: ['read_data', 'execute'] });
    expect(one).toMatchObject({ with: { level: 'read_data,execute' } });
  });
  it('end with the day that is picked, wherever that day is', () => {
    const [one] = entriesAdded('plates', ['orla'], { ...filled, ends: '2031-03-31' });
    const ends = new Date((one as { with: { ends: string } }).with.ends);
    expect([ends.getFullYear(), ends.getMonth(), ends.getDate(), ends.getHours()]).toEqual([2031, 3, 1, 0]);
  });
  it('let nobody through who is denied', () => {
    const [one] = entriesAdded('plates/a', ['orla'], { ...filled, act: 'deny', through: true });
    expect(one).not.toHaveProperty('with.through');
  });
});

describe('an entry that is changed', () => {
  it('is left alone where nothing is otherwise', () =>
    expect(entryChanged('plates', 7, filled, { ...filled })).toEqual([]));
  it.each([
    [{ level: 'change' as const }, { level: 'change' }],
    [{ note: 'for the spring run' }, { note: 'for the spring run' }],
    [{ reaches: 'files' as const }, { applies: ['files'] }],
    [{ level: 'rights' as const, rights: ['read_data'] }, { level: 'read_data' }],
  ])('says that alone which is: %o', (is, to) => {
    expect(entryChanged('plates', 7, filled, { ...filled, ...is })).toEqual([
      { kind: 'entry', act: 'change', of: { path: 'plates', id: 7 }, with: to },
    ]);
  });
  it('reaches all again, and ends no more', () => {
    const was = { ...filled, reaches: 'files' as const, ends: '2031-03-31' };
    expect(entryChanged('plates', 7, was, filled)).toEqual([
      {
        kind: 'entry',
        act: 'change',
        of: { path: 'plates', id: 7 },
        with: { applies: ['folder', 'subfolders', 'files'], endless: true },
      },
    ]);
  });
});

it('a change has its kind, its act and what they take', () => {
  expect(change('member', 'add', { of: { name: 'staff', member: 'user:orla' } })).toEqual({
    kind: 'member',
    act: 'add',
    of: { name: 'staff', member: 'user:orla' },
  });
});

it('every right has a name of its own', () => expect(new Set(rights.map((r) => r.name)).size).toBe(rights.length));
