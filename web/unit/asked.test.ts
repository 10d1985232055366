import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { api, client, fileAt, nowSignedIn, Refusal, taken, who } from '../src/api/client';
import { type Found, nearest } from '../src/api/find';
import { sinceOf } from '../src/api/live';
import { isRemembered, lookAt, mustWait, onLook, pastMoment } from '../src/api/past';
import { allMeant, allSpelled, meant, spelled } from '../src/api/shown';
import { afterLastDay, enteredDay } from '../src/parts/day';
import { branchesOf } from '../src/parts/tree';
import { listed, quoted } from '../src/parts/words';
import { service } from './around';

beforeEach(() => {
  client.clear();
  lookAt(null);
});
afterEach(() => vi.useRealTimers());

// The same draws every time: what fails once fails again.
function draws(seed: number) {
  let s = seed;
  return (below: number) => {
    s = (Math.imul(s, 1664525) + 1013904223) >>> 0;
    return Math.floor((s / 2 ** 32) * below);
  };
}

/** What a text might be made of: letters, what is hidden, what looks as if it were spelled out, and halves of it. */
const pieces = [
  'a',
  'é',
  '日',
  '𝛼',
  '\\',
  '\\x',
  '\\x1b',
  '\\u202e',
  '\\U000e0041',
  '\\u',
  '\x1b',
  '\u202e',
  '\ufeff',
  '\u{e0041}',
  '/',
  '"',
];

describe('names that would turn the writing round', () => {
  it('are shown spelled out, and asked about as they are, whatever else they hold', () => {
    const draw = draws(7);
    let hid = 0;
    for (let n = 0; n < 4000; n++) {
      const text = Array.from({ length: draw(7) }, () => pieces[draw(pieces.length)]).join('');
      const shown = spelled(text);
      expect(/[\u202e\ufeff]|[\u{e0000}-\u{e007f}]/u.test(shown) || shown.includes('\x1b')).toBe(false);
      expect(spelled(shown), 'what is spelled out stays as it is').toBe(shown);
      if (shown !== text) hid++;
      // A name that holds a backslash and digits itself is the one that cannot be told from what is spelled out.
      if (!/\\[xuU]/.test(text)) expect(meant(shown)).toBe(text);
    }
    expect(hid).toBeGreaterThan(1000);
  });
  it.each([
    ['\\x41', 'a letter needs no spelling'],
    ['\\u0041', 'nor so'],
    ['\\x1', 'too few digits'],
    ['\\u202', 'too few'],
    ['\\U0000202e', 'not as it is spelled'],
    ['\\X1b', 'not as it is spelled'],
    ['\\x1B', 'nor in capitals'],
  ])('%s is a name as it stands: %s', (text) => expect(meant(text)).toBe(text));
  it('are spelled at every depth of an answer, in names of fields too, and nothing else is touched', () => {
    const answer = { 'a\u202eb': [{ deep: ['\x1b[2J', 7, null, true] }], plain: 'plain' };
    expect(allSpelled(answer)).toEqual({ 'a\\u202eb': [{ deep: ['\\x1b[2J', 7, null, true] }], plain: 'plain' });
    expect(allMeant({ with: { path: 'nightlog/\\u202efdp', ids: [1, '\\x1b'] } })).toEqual({
      with: { path: 'nightlog/\u202efdp', ids: [1, '\x1b'] },
    });
  });
});

describe('what is asked of the service', () => {
  it('has names in addresses as they are meant, and one slash in a name stays in it', async () => {
    const asked = service({ 'GET /api/v1/': [] });
    await taken(api.GET('/api/v1/folders/{name}', { params: { path: { name: 'a/b\\u202ec?d#e' } } }));
    await taken(api.GET('/api/v1/entries', { params: { query: { path: 'plates/50% off&user=wren\\x1b' } } }));
    expect(asked[0]?.path).toBe(`/api/v1/folders/${encodeURIComponent('a/b\u202ec?d#e')}`);
    const query = new URLSearchParams(asked[1]?.path.split('?')[1]);
    expect([...query.keys()]).toEqual(['path']);
    expect(query.get('path')).toBe('plates/50% off&user=wren\x1b');
  });
  it('is refused in words: what, what is wrong where, and what comes next', async () => {
    service({
      'POST /api/v1/changes': {
        status: 422,
        detail: 'two things are wrong',
        next: 'amber share list',
        errors: [
          { location: 'body.changes[0].with.name', message: 'that is taken' },
          { location: 'body.changes[0].with.volume', message: 'two things are wrong' },
        ],
      },
    });
    const error = await taken(api.POST('/api/v1/changes', { body: { changes: [] } })).catch((e) => e);
    expect(error).toBeInstanceOf(Refusal);
    expect(error.message, 'nothing is said twice').toBe('two things are wrong – that is taken');
    expect(error.next).toBe('amber share list');
    expect(error.fields).toHaveLength(2);
    expect(error.confirm).toBe(false);
  });
  it.each([
    [500, { request: 'k3' }, /500.* – request k3$/],
    [503, { detail: 'the disk is full', request: 'k4' }, /^the disk is full – request k4$/],
    [404, { detail: 'no such folder', request: 'k5' }, /^no such folder$/],
    [418, undefined, /418/],
  ])('a refusal with %i says what helps: %o', (status, problem, says) =>
    expect(new Refusal(status, problem).message).toMatch(says),
  );
});

describe('who is signed in', () => {
  it('is nobody where the service says so, and unknown where it does not answer', async () => {
    service({ 'GET /api/v1/me': { status: 401, detail: 'sign in first' } });
    await expect(who.queryFn()).resolves.toBeNull();
    service({ 'GET /api/v1/me': { status: 503, detail: 'not now' } });
    await expect(who.queryFn()).rejects.toThrow('not now');
  });
  it('and what somebody else was shown is forgotten', () => {
    client.setQueryData(['users'], [{ name: 'wren' }]);
    client.setQueryData(['me'], { user: 'wren', role: 'administrator' });
    nowSignedIn({ user: 'piran', role: 'user' });
    expect(client.getQueryData(['users'])).toBeUndefined();
    expect(client.getQueryData(['me'])).toMatchObject({ user: 'piran', role: 'user', decides: [] });
    nowSignedIn(null);
    expect(client.getQueryData(['me'])).toBeNull();
  });
  it('ends everywhere with a session that has ended, and goes on where one is only refused', async () => {
    client.setQueryData(['me'], { user: 'wren', role: 'administrator' });
    service({ 'GET /api/v1/users': { status: 403, detail: 'not yours' } });
    const ask = () =>
      client.fetchQuery({ queryKey: ['users'], retry: false, queryFn: () => taken(api.GET('/api/v1/users')) });
    await ask().catch(() => {});
    expect(client.getQueryData(['me'])).not.toBeNull();
    service({ 'GET /api/v1/users': { status: 401, detail: 'the session has ended' } });
    await ask().catch(() => {});
    expect(client.getQueryData(['me'])).toBeNull();
  });
});

describe('the past', () => {
  const then = '2026-11-02T09:00:00.000Z';
  it('is asked for where the service remembers, and not where it does not', async () => {
    const asked = service({ 'GET /api/v1/': [] });
    lookAt(then);
    await taken(api.GET('/api/v1/folders'));
    await taken(api.GET('/api/v1/sessions'));
    await taken(api.GET('/api/v1/who', { params: { query: { path: 'plates', at: '2026-11-01T00:00:00Z' } } }));
    const at = asked.map((a) => new URLSearchParams(a.path.split('?')[1] ?? '').get('at'));
    expect(at, 'and a moment that was asked for is not another').toEqual([then, null, '2026-11-01T00:00:00Z']);
    expect(fileAt('/api/v1/reports/matrix')).toContain('at=2026-11-02');
    expect(fileAt('/api/v1/journal/export')).toBe('/api/v1/journal/export');
  });
  it.each([
    ['/api/v1/users/wren', true],
    ['/api/v1/users/export', false],
    ['/api/v1/users/wren/sessions', false],
    ['/api/v1/host-sets/workroom', true],
    ['/api/v1/notices/hooks', true],
    ['/api/v1/notices', false],
    ['/api/v1/limits', true],
    ['/api/v1/limits/anything', false],
    ['/api/v1/reports/access', true],
    ['/api/v2/users', false],
    ['/elsewhere/api/v1/users', false],
  ])('%s is remembered: %s', (path, is) => expect(isRemembered(path)).toBe(is));
  it.each([
    ['POST', '/api/v1/changes', true],
    ['POST', '/api/v1/preview', true],
    ['DELETE', '/api/v1/shares/plates', true],
    ['PATCH', '/api/v1/notices/settings', true],
    ['POST', '/api/v1/sign-out', false],
    ['POST', '/api/v1/users/import/read', false],
    ['POST', '/api/v1/users/import', true],
    ['GET', '/api/v1/users', false],
  ])('%s %s has to wait until one is back: %s', (method, path, waits) => expect(mustWait(method, path)).toBe(waits));
  it('lasts as long as the tab, and tells who listens until they listen no more', () => {
    const told = vi.fn();
    const stop = onLook(told);
    lookAt(then);
    expect([pastMoment(), sessionStorage.getItem('amber as of')]).toEqual([then, then]);
    lookAt(null);
    expect([pastMoment(), sessionStorage.getItem('amber as of')]).toEqual([null, null]);
    stop();
    lookAt(then);
    expect(told).toHaveBeenCalledTimes(2);
  });
});

describe('what is found', () => {
  const found = (...names: [string, string?][]): Found[] => names.map(([name, says]) => ({ name, says, kind: 'user' }));
  it('comes in the order of how near it is, and is cut where it gets long', () => {
    const all = found(['tavistock', 'Or not'], ['corin'], ['orla'], ['ORDE'], ['wren', 'Wren Ormesby'], ['pip']);
    expect(nearest(all, 'or').map((f) => f.name)).toEqual(['orla', 'ORDE', 'corin', 'tavistock', 'wren']);
    const many = found(...Array.from({ length: 40 }, (_, i): [string] => [`or${i}`]));
    expect(nearest(many, 'OR')).toHaveLength(8);
    expect(nearest(many, '')).toHaveLength(8);
    expect(
      nearest(found(['a.b'], ['axb']), '.').map((f) => f.name),
      'a text is no pattern',
    ).toEqual(['a.b']);
  });
});

describe('days and moments', () => {
  it('a last day is the same day again, on every day of years with days of 23 and 25 hours', () => {
    for (let n = 0; n < 3000; n++) {
      const d = new Date(2027, 0, 1 + n, 12);
      const two = (x: number) => String(x).padStart(2, '0');
      const day = `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())}`;
      const ends = new Date(afterLastDay(day));
      expect([ends.getHours(), ends.getMinutes(), ends.getTime() - d.getTime() < 86_400_000]).toEqual([0, 0, true]);
      expect(enteredDay(ends.toISOString())).toBe(day);
    }
  });
  it.each([
    ['15min', '2026-11-28T11:45:00.000Z'],
    ['2h', '2026-11-28T10:00:00.000Z'],
    ['7d', '2026-11-21T12:00:00.000Z'],
    ['2026-11-02T09:00:00Z', '2026-11-02T09:00:00Z'],
    ['7w', '7w'],
    ['-2h', '-2h'],
  ])('%s is since %s', (since, is) => expect(sinceOf(since, Date.parse('2026-11-28T12:00:00Z'))).toBe(is));
});

describe('words for a shell', () => {
  // What sh makes of a quoted word: what is in single quotes as it is, \' outside of them as a quote.
  const unquoted = (word: string) => {
    let [out, i] = ['', 0];
    while (i < word.length) {
      if (word[i] === "'") {
        const end = word.indexOf("'", i + 1);
        if (end < 0) throw new Error(`open quote: ${word}`);
        out += word.slice(i + 1, end);
        i = end + 1;
      } else if (word[i] === '\\') {
        out += word[i + 1];
        i += 2;
      } else {
        if (/[\s;&|<>$`"()*?[\]#~!{}\\]/.test(word[i] ?? '')) throw new Error(`not kept from the shell: ${word}`);
        out += word[i++];
      }
    }
    return out;
  };
  it('are read as they were, however much somebody would like them to be something else', () => {
    const draw = draws(3);
    const odd = [
      "'",
      '"',
      '$(reboot)',
      '`',
      ' ',
      '\n',
      ';',
      '&',
      '|',
      '*',
      '~',
      '#',
      '!',
      '{a,b}',
      'wren',
      '\\',
      '-',
      '=',
      '/',
    ];
    for (let n = 0; n < 3000; n++) {
      const text = Array.from({ length: 1 + draw(6) }, () => odd[draw(odd.length)]).join('');
      expect(unquoted(quoted(text))).toBe(text);
    }
    expect(quoted(''), 'nothing is a word as well').toBe("''");
    expect(quoted('plates/2026-11')).toBe('plates/2026-11');
  });
  it('names stand with commas, spaces or lines between them', () =>
    expect(listed(' wren,piran ,, staff\nobservers\t')).toEqual(['wren', 'piran', 'staff', 'observers']));
});

describe('paths as a tree', () => {
  it('stand each below the nearest that holds it, and nothing is lost or doubled', () => {
    const draw = draws(11);
    for (let n = 0; n < 200; n++) {
      const paths = new Set<string>(draw(2) ? ['plates'] : []);
      for (let i = draw(30); i > 0; i--)
        paths.add(['plates', ...Array.from({ length: 1 + draw(4) }, () => ['a', 'ab', 'b', 'a-b'][draw(4)])].join('/'));
      const [top, ...more] = branchesOf(
        'plates',
        [...paths].map((path) => ({ path, says: `of ${path}` })),
      );
      expect(more).toEqual([]);
      const seen: string[] = [];
      const walk = (b: NonNullable<typeof top>, above: string[]) => {
        seen.push(b.id);
        if (above.length > 0) {
          expect(b.id).toBe(`${above.at(-1)}/${b.text}`);
          const nearer = [...paths].filter((p) => b.id.startsWith(`${p}/`) && p.length > (above.at(-1)?.length ?? 0));
          expect(nearer, `${b.id} stands below ${above.at(-1)}`).toEqual([]);
        }
        for (const c of b.children ?? []) walk(c, [...above, b.id]);
      };
      if (top) walk(top, []);
      expect(seen.sort()).toEqual([...new Set([...paths, 'plates'])].sort());
    }
  });
});
