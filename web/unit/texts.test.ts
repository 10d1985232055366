import { describe, expect, it } from 'vitest';
import { type Found, nearest } from '../src/api/find';
import { isRemembered, mustWait } from '../src/api/past';
import { allMeant, allSpelled, meant, spelled } from '../src/api/shown';
import { afterLastDay, enteredDay } from '../src/parts/day';
import { lastWord } from '../src/parts/picker';
import { branchesOf } from '../src/parts/tree';
import { size, span } from '../src/parts/use';
import { listed, quoted } from '../src/parts/words';

/** Texts with everything in them that turns writing round, or does not show itself. */
function* strange(n: number) {
  const odd = [
    '\u202e',
    '\u200f',
    '\u0000',
    '\u001b',
    '\ufeff',
    '\u{e0041}',
    '\u2028',
    '\\',
    'x1b',
    'u202e',
    'a',
    'ß',
    '\t',
    '😀',
    '\u2066',
  ];
  let seed = 4711;
  const next = (most: number) => {
    seed = (seed * 1103515245 + 12345) % 2147483648;
    return seed % most;
  };
  for (let i = 0; i < n; i++) yield Array.from({ length: next(9) }, () => odd[next(odd.length)]).join('');
}

describe('names that would do something to the page', () => {
  it('show what they are, and are meant again', () => {
    for (const text of strange(3000)) {
      const shown = spelled(text);
      expect([...shown].filter((c) => spelled(c) !== c)).toEqual([]);
      // a name that spells such a character already is not told from one that holds it: both mean the latter
      expect(spelled(meant(shown))).toBe(shown);
    }
  });
  it('are so in whatever holds them', () => {
    const value = { 'a\u202eb': ['\u001b', 1, null, { deep: '\u200f' }] };
    expect(allSpelled(value)).toEqual({ 'a\\u202eb': ['\\x1b', 1, null, { deep: '\\u200f' }] });
    expect(allMeant({ who: '\\u202e', n: 2 })).toEqual({ who: '\u202e', n: 2 });
  });
});

describe('what can be asked of the past', () => {
  it.each([
    '/api/v1/folders',
    '/api/v1/folders/plates',
    '/api/v1/entries',
    '/api/v1/why',
    '/api/v1/reports/folder',
    '/api/v1/users/orla',
  ])('is %s', (path) => expect(isRemembered(path)).toBe(true));
  it.each([
    '/api/v1/jobs',
    '/api/v1/use',
    '/api/v1/users/export',
    '/api/v1/folders/plates/connect',
    '/api/v1/journal',
    '/api/v1/me',
  ])('is not %s', (path) => expect(isRemembered(path)).toBe(false));
  it('and nothing is changed there', () => {
    expect(mustWait('POST', '/api/v1/changes')).toBe(true);
    expect(mustWait('DELETE', '/api/v1/users/orla')).toBe(true);
    expect(mustWait('POST', '/api/v1/sign-out')).toBe(false);
    expect(mustWait('GET', '/api/v1/changes')).toBe(false);
  });
});

it('who begins so is found before who holds it, and who is only written to so is not', () => {
  const all: Found[] = [
    { name: 'corin', says: 'Corin Vale', kind: 'user' },
    { name: 'orla', says: 'Orla Finnegan', kind: 'user' },
    { name: 'wren', says: 'Wren Aldous', kind: 'user' },
    { name: 'tomasz', says: 'Tomasz Orwell', kind: 'user' },
  ];
  expect(nearest(all, 'or').map((f) => f.name)).toEqual(['orla', 'corin', 'tomasz']);
  expect(nearest(all, '')).toHaveLength(4);
});

it('the word that is typed is the last', () => {
  expect(lastWord('keeper, au')).toEqual(['keeper, ', 'au']);
  expect(lastWord('au')).toEqual(['', 'au']);
  expect(lastWord('keeper,')).toEqual(['keeper,', '']);
});

it('paths stand below the nearest that holds them', () => {
  const [top] = branchesOf('plates', [
    { path: 'plates', says: '2 entries' },
    { path: 'plates/2026/may', says: 'x' },
    { path: 'plates/2026' },
  ]);
  expect(top?.says).toBe('2 entries');
  expect(top?.children?.map((c) => c.text)).toEqual(['2026']);
  expect(top?.children?.[0]?.children?.[0]).toMatchObject({ id: 'plates/2026/may', text: 'may' });
});

it('a day that is entered is the day that is shown', () => {
  for (const day of ['2026-01-01', '2026-02-28', '2028-02-29', '2026-12-31', '2026-03-29', '2026-10-25'])
    expect(enteredDay(afterLastDay(day))).toBe(day);
});

it('sizes and times have the unit that people say', () => {
  expect([0, 999, 999.6, 1000, 38300, 20e6, -1500].map(size)).toEqual([
    '0 B',
    '999 B',
    '1 kB',
    '1 kB',
    '38.3 kB',
    '20 MB',
    '-1.5 kB',
  ]);
  expect([30, 60, 3660, 90000].map(span)).toEqual(['less than a minute', '1 min', '1 h 1 min', '1 d 1 h']);
});

it('words are as a shell takes them, and names as they are listed', () => {
  expect(quoted("it's here")).toBe(`'it'\\''s here'`);
  expect(quoted('/plates')).toBe('/plates');
  expect(listed(' a, b  c,,d ')).toEqual(['a', 'b', 'c', 'd']);
});
