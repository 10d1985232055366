import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import { describe, expect, it, vi } from 'vitest';
import type { Entry, Share } from '../src/api/client';
import { NewFolderPage } from '../src/pages/new-folder';
import { EntryForm } from '../src/parts/entry-form';
import { Rules } from '../src/parts/rules';
import { Shares } from '../src/parts/shares';
import { LiveTry } from '../src/parts/trying';
import { type Asked, draw, service } from './around';
import { answers, changesOf, effect, fill, nothingAsked, press, previewed, tick, write } from './filled';

describe('an entry', () => {
  const entry = (of: Partial<Entry>) =>
    ({
      id: 31,
      path: 'plates',
      who: 'staff',
      kind: 'group',
      level: 'read',
      deny: false,
      applies: ['folder', 'subfolders', 'files'],
      ...of,
    }) as Entry;
  const edit = (of: Partial<Entry>) => {
    const asked = service(answers);
    const done = vi.fn();
    draw(<EntryForm path="plates" entry={entry(of)} onDone={done} />);
    return { asked, done };
  };
  it.each([
    entry({}),
    entry({ level: 'change', ends: '2027-03-28T00:00:00.000Z', note: 'for the spring run' }),
    entry({ level: 'change', ends: '2027-07-01T23:00:00.000Z' }),
    entry({ level: 'some', bits: ['list_directory', 'add_file', 'execute'], applies: ['folder'] } as Partial<Entry>),
    entry({ deny: true, applies: ['files'] } as Partial<Entry>),
  ])('that is opened and left as it is changes nothing: %o', async (is) => {
    const { asked, done } = edit(is);
    press('See what it does');
    await waitFor(() => expect(done).toHaveBeenCalledOnce());
    nothingAsked(asked);
  });
  it('of exact rights loses the one that is taken, and no other', async () => {
    const { asked } = edit({ level: 'some', bits: ['list_directory', 'execute', 'read_acl'] } as Partial<Entry>);
    expect(screen.getByRole<HTMLInputElement>('checkbox', { name: /^read_data/ }).checked).toBe(true);
    await tick(/^execute/);
    press('See what it does');
    expect(await previewed(asked)).toEqual([
      { kind: 'entry', act: 'change', of: { path: 'plates', id: 31 }, with: { level: 'read_data,read_acl' } },
    ]);
  });
  it('without any right is none', async () => {
    const { asked } = edit({ level: 'some', bits: ['execute'] } as Partial<Entry>);
    await tick(/^execute/);
    press('See what it does');
    await screen.findByText('Choose at least one right.');
    nothingAsked(asked);
  });
  it('is written for each who is named, with what lets them through only where they are allowed', async () => {
    const asked = service(answers);
    draw(<EntryForm path="plates/2026/raw" onDone={() => {}} />);
    await write('Who', 'orla, staff');
    await tick('let them through the directories above');
    press('See what it does');
    expect(await previewed(asked)).toEqual(
      ['orla', 'staff'].map((who) => ({
        kind: 'entry',
        act: 'add',
        with: { path: 'plates/2026/raw', who, deny: false, level: 'read', through: true },
      })),
    );
    await screen.findByText('Add these entries?');
    press('Leave it');
    fill('Act', 'deny');
    await waitFor(() => expect(screen.queryByText('let them through the directories above')).toBeNull());
    press('See what it does');
    await waitFor(async () => expect(JSON.stringify(await previewed(asked))).not.toContain('through'));
  });
  it('for nobody is not asked about', async () => {
    const asked = service(answers);
    draw(<EntryForm path="plates" onDone={() => {}} />);
    press('See what it does');
    await waitFor(() =>
      expect(screen.getByRole('combobox', { name: 'Who' }).getAttribute('aria-invalid')).toBe('true'),
    );
    nothingAsked(asked);
  });
});

describe('client rules', () => {
  const rule = (id: number, from: string, of = {}) =>
    ({
      id,
      from,
      write: false,
      squash: 'root',
      anonUid: 65534,
      anonGid: 65534,
      unknown: 'refused',
      terms: 'ro',
      ...of,
    }) as never;
  const begun = (more = {}) => {
    const asked = service({ ...answers, ...more });
    draw(<Rules list={{ export: '/plates' }} rules={[rule(4, '192.0.2.7'), rule(9, '@workroom')]} mayChange />);
    return asked;
  };
  it('move by one place, and no further than there are places', async () => {
    const asked = begun();
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Move 192.0.2.7 up' }).disabled).toBe(true);
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Move @workroom down' }).disabled).toBe(true);
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Change @workroom' }).disabled).toBe(true);
    press('Move 192.0.2.7 down');
    expect(await previewed(asked)).toEqual([
      { kind: 'export rule', act: 'move', of: { name: 'plates', id: 4 }, with: { position: 2 } },
    ]);
  });
  it('are a set’s as well, with their own kind', async () => {
    const asked = service(answers);
    draw(<Rules list={{ set: 'workroom' }} rules={[rule(4, '192.0.2.7')]} mayChange />);
    press('Remove 192.0.2.7');
    expect(await previewed(asked)).toEqual([{ kind: 'host set rule', act: 'remove', of: { name: 'workroom', id: 4 } }]);
  });
  it('let everyone in only when it is said twice', async () => {
    const asked = begun({
      'POST /api/v1/preview': (a: Asked) =>
        JSON.stringify(a.body).includes('"everyone":true')
          ? effect
          : { status: 409, detail: 'it lets in every host', confirm: true },
    });
    press('Add client rule');
    await write('From', '*');
    fill('Access', 'rw');
    fill('Anonymous uid', '2000');
    press('See what it does');
    await screen.findByText('it lets in every host');
    expect(asked.some((a) => a.path === '/api/v1/changes')).toBe(false);
    fireEvent.click(within(screen.getByRole('alertdialog')).getByRole('button', { name: 'Let everyone in' }));
    const add = await within(screen.getByRole('alertdialog')).findByRole('button', { name: 'Add client rule' });
    await waitFor(() => expect((add as HTMLButtonElement).disabled).toBe(false));
    fireEvent.click(add);
    await waitFor(() => expect(asked.some((a) => a.path === '/api/v1/changes')).toBe(true));
    expect(asked.find((a) => a.path === '/api/v1/changes')?.body).toEqual({
      changes: [
        {
          kind: 'export rule',
          act: 'add',
          of: { name: 'plates' },
          with: {
            from: '*',
            write: true,
            everyone: true,
            squash: 'root',
            anonUid: 2000,
            anonGid: 65534,
            unknown: 'refused',
            privilegedPort: false,
          },
        },
      ],
    });
  });
  it('of a set say nothing of terms', async () => {
    const asked = begun();
    press('Add client rule');
    await write('From', ' @dome-hosts');
    await waitFor(() => expect(screen.queryByLabelText('Squash')).toBeNull());
    press('See what it does');
    expect(await previewed(asked)).toEqual([
      { kind: 'export rule', act: 'add', of: { name: 'plates' }, with: { from: '@dome-hosts' } },
    ]);
  });
  it.each(['-1', '4294967295', 'x', '', '7.5', '1e12'])('no number of nobody is %s', async (number) => {
    const asked = begun();
    press('Add client rule');
    await write('From', '192.0.2.9');
    fill('Anonymous uid', number);
    press('See what it does');
    await screen.findByText('A number up to 4294967294.');
    nothingAsked(asked);
  });
});

describe('a share that is changed', () => {
  const share = {
    name: 'plates',
    folder: 'plates',
    description: 'scans',
    announced: true,
    readOnly: false,
    listOnlyOpenable: false,
    encrypted: false,
    persistent: false,
    showLinks: false,
    guests: false,
    offline: 'manual',
    on: true,
    entries: [],
    hosts: [{ from: '192.0.2.0/24' }, { from: '@workroom', readOnly: true }],
  } as unknown as Share;
  const begun = async (of: Partial<Share> = {}) => {
    const asked = service({ ...answers, 'GET /api/v1/shares': [{ ...share, ...of }] });
    draw(<Shares folder="plates" mayChange />);
    fireEvent.click(await screen.findByRole('button', { name: /^Change/ }));
    return asked;
  };
  const hosts = () => screen.getByLabelText<HTMLInputElement>('From which hosts');
  it.each([
    ['192.0.2.0/24 @workroom=ro', null],
    ['@workroom=ro, 192.0.2.0/24', [{ from: '@workroom', readOnly: true }, { from: '192.0.2.0/24' }]],
    ['', []],
    ['@workroom', [{ from: '@workroom' }]],
    ['2001:db8::/32=ro', [{ from: '2001:db8::/32', readOnly: true }]],
  ])('from %o', async (text, is) => {
    const asked = await begun();
    expect(hosts().value).toBe('192.0.2.0/24, @workroom=ro');
    fireEvent.change(hosts(), { target: { value: text } });
    press('See what it does');
    if (is)
      expect(await previewed(asked)).toEqual([
        { kind: 'share', act: 'change', of: { name: 'plates' }, with: { hosts: is } },
      ]);
    else {
      await waitFor(() => expect(screen.queryByLabelText('From which hosts')).toBeNull());
      nothingAsked(asked);
    }
  });
  it('says what is otherwise alone, and none at most is no bound', async () => {
    const asked = await begun({ mostConnections: 12 });
    fill('Description', '');
    fill('Kept by clients for when they are away', 'none');
    fireEvent.change(screen.getByLabelText('Most connections at once'), { target: { value: '' } });
    press('See what it does');
    expect(await previewed(asked)).toEqual([
      {
        kind: 'share',
        act: 'change',
        of: { name: 'plates' },
        with: { description: '', offline: 'none', mostConnections: 0 },
      },
    ]);
  });
  it('is only looked at by who may only look', async () => {
    const asked = service({ ...answers, 'GET /api/v1/shares': [share] });
    draw(<Shares folder="plates" mayChange={false} />);
    await screen.findByText('plates');
    expect(screen.queryAllByRole('button')).toEqual([]);
    for (const box of screen.getAllByRole<HTMLInputElement>('checkbox')) expect(box.disabled).toBe(true);
    nothingAsked(asked);
  });
});

describe('a folder that is made on one page', () => {
  const arrangements = [
    { name: 'together', text: 'A team works on all of it', team: 'the team', others: '' },
    { name: 'dropbox', text: 'Others put things in', team: 'the team', others: 'who puts in' },
  ];
  const begun = async (more = {}) => {
    const asked = service({
      ...answers,
      'GET /api/v1/volumes': [{ name: 'summit' }],
      'GET /api/v1/volumes/summit': { name: 'summit', path: '/srv/summit', freeBytes: 5e9 },
      'GET /api/v1/arrangements': arrangements,
      ...more,
    });
    draw(<NewFolderPage />);
    await waitFor(() => expect(screen.getByLabelText<HTMLSelectElement>('Volume').value).toBe('summit'));
    return asked;
  };
  const made = async (asked: Asked[]) => {
    const button = screen.getByRole<HTMLButtonElement>('button', { name: 'Make it' });
    await waitFor(() => expect(button.disabled).toBe(false));
    fireEvent.click(button);
    await waitFor(() => expect(asked.some((a) => a.path === '/api/v1/changes')).toBe(true));
    return changesOf(asked.find((a) => a.path === '/api/v1/changes'));
  };
  it('is one set of changes: the folder, its ways in, its rules and its limit, in that order', async () => {
    const asked = await begun();
    fill('Name', 'spectra');
    await write('The team', 'staff, orla');
    await tick(/Over NFS/);
    await write('From which hosts', '192.0.2.0/24, @dome-hosts');
    fill('At most', '500GB');
    await screen.findByText('It holds 500GB at most.');
    screen.getByText('The hosts of dome-hosts mount it, on their set’s terms.');
    expect(await made(asked)).toEqual([
      {
        kind: 'folder',
        act: 'add',
        with: { name: 'spectra', volume: 'summit', arrangement: 'together', team: ['staff', 'orla'] },
      },
      { kind: 'share', act: 'add', with: { folder: 'spectra' } },
      { kind: 'export', act: 'add', with: { folder: 'spectra' } },
      { kind: 'export rule', act: 'add', of: { name: '/spectra' }, with: { from: '192.0.2.0/24', write: true } },
      { kind: 'export rule', act: 'add', of: { name: '/spectra' }, with: { from: '@dome-hosts' } },
      { kind: 'limit', act: 'set', with: { kind: 'folder', name: 'spectra', hardBytes: '500GB' } },
    ]);
  });
  it('is shown as the command that does the same, with nothing that a shell would take for its own', async () => {
    await begun();
    fill('Name', "o'brien; x");
    await tick(/Over SMB/);
    const text = () => document.body.textContent ?? '';
    await waitFor(() => expect(text()).toContain(`amber folder add 'o'\\''brien; x' --volume summit`));
  });
  it('has those who put things in only where the arrangement knows them', async () => {
    const asked = await begun();
    fill('Name', 'inbox');
    fill('Arrangement', 'dropbox');
    await write('The team', 'staff');
    await write('Who puts in', 'observers');
    fill('Arrangement', 'together');
    await waitFor(() => expect(screen.queryByRole('combobox', { name: 'Who puts in' })).toBeNull());
    expect(JSON.stringify(await made(asked))).not.toContain('observers');
  });
  it('of a directory as it is takes neither team nor arrangement along', async () => {
    const asked = await begun();
    fill('Name', 'old');
    await write('The team', 'staff');
    fill('What decides', 'convert');
    await tick(/Over SMB/);
    await screen.findByText(/A job goes through all that is there/);
    expect(await made(asked)).toEqual([
      { kind: 'folder', act: 'add', with: { name: 'old', volume: 'summit', convert: true } },
    ]);
  });
  it('cannot be made while the service refuses it, and says so at the field, without moving anybody there', async () => {
    const asked = await begun({
      'POST /api/v1/preview': {
        status: 422,
        detail: 'no',
        errors: [{ location: 'body.changes[1].with.hardBytes', message: 'a size is a number with a unit' }],
      },
    });
    fill('Name', 'spectra');
    fill('At most', 'lots');
    await screen.findByText('a size is a number with a unit');
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Make it' }).disabled).toBe(true);
    expect(document.activeElement).not.toBe(screen.getByLabelText('At most'));
    expect(asked.some((a) => a.path === '/api/v1/changes')).toBe(false);
  });
});

it('a try says only what is asked of it, and tells where the wire and the audit differ', async () => {
  const step = { does: 'writes a file', done: true, expected: false, says: '', gate: '', reason: '' };
  const asked = service({
    ...answers,
    'POST /api/v1/try': {
      user: 'piran',
      path: 'plates',
      agrees: false,
      ways: [{ via: 'smb', through: 'plates', from: '192.0.2.7', steps: [step], left: '' }],
    },
  });
  draw(<LiveTry path="plates" />);
  press('Try it');
  await new Promise((r) => setTimeout(r, 60));
  nothingAsked(asked);
  await write('As', 'piran ');
  await tick('make a file and remove it');
  press('Try it');
  await screen.findByText('The wire and the audit differ.');
  expect(asked.filter((a) => a.method === 'POST').map((a) => a.body)).toEqual([
    { user: 'piran', path: 'plates', look: true },
  ]);
  expect(document.body.textContent).toContain('though the audit says that it may not be');
});
