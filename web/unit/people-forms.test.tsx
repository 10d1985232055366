import { screen, waitFor } from '@testing-library/react';
import type { ReactElement } from 'react';
import { describe, expect, it, vi } from 'vitest';
import type { NoticeSettings, User } from '../src/api/client';
import { Notices } from '../src/pages/notices';
import { Bulk } from '../src/parts/bulk';
import { Leaving } from '../src/parts/leaving';
import { AddPerson } from '../src/parts/new-person';
import { type Asked, draw, service } from './around';
import { answers, fill, nothingAsked, press, previewed, tick, write } from './filled';

/** The midnight at which a day that is picked is over, where the tests are: London. */
const over = (day: string) => new Date(new Date(`${day}T12:00:00Z`).getTime() + 36e5 * 12).toISOString();

describe('a person who is put in', () => {
  const begun = (more = {}) => {
    const asked = service({ ...answers, ...more });
    const done = vi.fn();
    draw(<AddPerson onDone={done} />);
    return { asked, done };
  };
  it('has what was filled in and nothing that was not', async () => {
    const { asked } = begun();
    fill('Name', '  sennen ');
    press('See what it does');
    expect(await previewed(asked)).toEqual([{ kind: 'user', act: 'add', with: { name: 'sennen' } }]);
    await screen.findByText('Without a password nobody signs in as them yet.');
  });
  it('has numbers as numbers, groups one by one, and a last day that is over at its midnight', async () => {
    const { asked } = begun();
    await screen.findByRole('option', { name: 'visitor' });
    for (const [label, value] of [
      ['Name', 'sennen'],
      ['Full name', 'Sennen Tregeagle'],
      ['Mail', 'sennen@larkfell.example'],
      ['Groups', 'staff,  observers'],
      ['Profile', 'visitor'],
      ['uid', '02041'],
      ['Last day', '2027-01-31'],
      ['First password', 'correct horse'],
    ] as const)
      fill(label, value);
    await tick('They have to change it first');
    press('See what it does');
    expect(await previewed(asked)).toEqual([
      {
        kind: 'user',
        act: 'add',
        with: {
          name: 'sennen',
          fullName: 'Sennen Tregeagle',
          uid: 2041,
          mail: 'sennen@larkfell.example',
          groups: ['staff', 'observers'],
          profile: 'visitor',
          password: 'correct horse',
          mustChange: false,
          ends: over('2027-01-31'),
        },
      },
    ]);
  });
  it.each([
    ['', '', 'People are known by a short name'],
    ['sennen', '20x', 'A number, to match'],
    ['sennen', '-4', 'A number, to match'],
  ])('is not asked about with the name %o and the number %o', async (name, uid, says) => {
    const { asked } = begun();
    fill('Name', name);
    fill('uid', uid);
    press('See what it does');
    await screen.findByText(new RegExp(says));
    nothingAsked(asked);
  });
  it('is told at its field what the service refuses, and is not put in', async () => {
    const { asked, done } = begun({
      'POST /api/v1/preview': {
        status: 409,
        detail: 'no',
        errors: [{ location: 'body.changes[0].with.name', message: 'wren is a user already' }],
      },
    });
    fill('Name', 'wren');
    press('See what it does');
    await screen.findByText('wren is a user already');
    await waitFor(() => expect(screen.queryByRole('alertdialog')).toBeNull());
    expect(screen.getByLabelText('Name').getAttribute('aria-invalid')).toBe('true');
    expect(asked.some((a) => a.path === '/api/v1/changes')).toBe(false);
    expect(done).not.toHaveBeenCalled();
  });
});

describe('several people at once', () => {
  const user = (name: string, to: object) => ({ kind: 'user', act: 'change', of: { name }, with: to });
  it.each([
    ['ends', 'Last day', '2027-03-27', (n: string) => user(n, { ends: over('2027-03-27') })],
    ['ends', 'Last day', '2027-06-30', (n: string) => user(n, { ends: '2027-06-30T23:00:00.000Z' })],
    ['profile', 'Profile', 'student', (n: string) => user(n, { profile: 'student' })],
    [
      'join',
      'Group',
      'staff',
      (n: string) => ({ kind: 'member', act: 'add', of: { name: 'staff', member: `user:${n}` } }),
    ],
    ['mark', 'Label', 'note=a=b', (n: string) => user(n, { labels: { note: 'a=b' } })],
    ['mark', 'Label', 'note=', (n: string) => user(n, { labels: { note: '' } })],
    ['disable', '', '', (n: string) => user(n, { disabled: true })],
    ['enable', '', '', (n: string) => user(n, { disabled: false })],
  ])('%s, %s %s', async (act, label, value, is) => {
    const asked = service(answers);
    draw(<Bulk names={['wren', 'piran']} onDone={() => {}} />);
    await screen.findByText('2 people');
    fill('What', act);
    if (label) {
      expect(screen.getByRole<HTMLButtonElement>('button', { name: 'See what it does' }).disabled).toBe(true);
      if (label === 'Profile') await screen.findByRole('option', { name: value });
      if (label === 'Group') await write(label, value);
      else fill(label, value);
    }
    press('See what it does');
    expect(await previewed(asked)).toEqual([is('wren'), is('piran')]);
  });
  it.each(['note', '=value', ''])('no label is %o', async (label) => {
    service(answers);
    draw(<Bulk names={['wren']} onDone={() => {}} />);
    fill('What', 'mark');
    fill('Label', label);
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'See what it does' }).disabled).toBe(true);
  });
  it('what was filled in for one act is not taken for another', async () => {
    service(answers);
    draw(<Bulk names={['wren']} onDone={() => {}} />);
    fill('Last day', '2027-03-27');
    fill('What', 'mark');
    expect(screen.getByLabelText<HTMLInputElement>('Label').value).toBe('');
  });
});

describe('somebody who leaves', () => {
  const wren = { name: 'wren', fullName: 'Wren Ormesby' } as User;
  const begun = async () => {
    const asked = service({
      ...answers,
      'POST /api/v1/users/wren/leaving/read': { partings: [{ what: 'entry', where: 'plates', becomes: 'removed' }] },
    });
    draw(<Leaving user={wren} onClose={() => {}} />);
    await screen.findByText('removed');
    return asked;
  };
  const last = (asked: Asked[]) => asked.filter((a) => a.path.endsWith('/leaving/read')).at(-1)?.body;
  it('may be followed by somebody, who gets the files only if that is said', async () => {
    const asked = await begun();
    expect(last(asked)).toEqual({});
    expect(screen.getByRole<HTMLOptionElement>('option', { name: /^passes to/ }).disabled).toBe(true);
    await write('Succeeded by', 'orla');
    await waitFor(() => expect(last(asked)).toEqual({ to: 'orla' }));
    fill('What they own on disk', 'pass');
    await waitFor(() => expect(last(asked)).toEqual({ to: 'orla', files: true }));
    await write('Succeeded by', '');
    press('See what it does');
    expect(await previewed(asked), 'nobody is given anything').toEqual([
      { kind: 'user', act: 'leave', of: { name: 'wren' }, with: {} },
    ]);
  });
  it('has files kept in a folder that is named, until a day, and the same is made as was shown', async () => {
    const asked = await begun();
    fill('What they own on disk', 'hold');
    fill('Until', '2027-11-28');
    expect(last(asked), 'until is nothing without a folder').toEqual({});
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'See what it does' }).disabled).toBe(true);
    await write('Kept in', 'holding');
    fill('Last day', '2026-12-24');
    const body = { on: over('2026-12-24'), hold: 'holding', until: over('2027-11-28') };
    await waitFor(() => expect(last(asked)).toEqual(body));
    await waitFor(() =>
      expect(screen.getByRole<HTMLButtonElement>('button', { name: 'See what it does' }).disabled).toBe(false),
    );
    press('See what it does');
    expect(await previewed(asked)).toEqual([{ kind: 'user', act: 'leave', of: { name: 'wren' }, with: body }]);
  });
});

describe('what a test of the mail server said', () => {
  it('stays when the settings come back changed, and the form has what they are then', async () => {
    const settings = (server: string): NoticeSettings =>
      ({
        percent: [80],
        grace: true,
        mail: { server, security: 'none', sender: 'a@larkfell.example' },
      }) as NoticeSettings;
    let is = settings('localhost:1');
    service({
      ...answers,
      'GET /api/v1/notices': [],
      'GET /api/v1/notices/unsent': [],
      'GET /api/v1/notices/settings': () => is,
      'GET /api/v1/notices/hooks': [],
      'GET /api/v1/notices/templates': [],
      'PATCH /api/v1/notices/settings': () => settings('localhost:1'),
      'POST /api/v1/notices/test': { status: 502, detail: 'nothing answers at localhost:1' },
    });
    draw((<Notices />) as ReactElement, '/notices?show=when');
    const server = await screen.findByLabelText<HTMLInputElement>('Server');
    expect(server.value).toBe('localhost:1');
    press('Send a test');
    await screen.findByText('nothing answers at localhost:1');
    is = settings('mail.larkfell.example:25');
    const { client } = await import('../src/api/client');
    await client.invalidateQueries();
    await waitFor(() =>
      expect(screen.getByLabelText<HTMLInputElement>('Server').value).toBe('mail.larkfell.example:25'),
    );
    screen.getByText('nothing answers at localhost:1');
  });
});
