import { fireEvent, screen, waitFor, within } from '@testing-library/react';
import event from '@testing-library/user-event';
import { useState } from 'react';
import { describe, expect, it, vi } from 'vitest';
import { type Effect, make, Refusal } from '../src/api/client';
import { lookAt } from '../src/api/past';
import { Broken } from '../src/parts/broken';
import { OpenTable } from '../src/parts/connected';
import { EffectView, Previewed } from '../src/parts/effect';
import { PlaceSheet } from '../src/parts/entries';
import { placeRefusal } from '../src/parts/form';
import { Both, Level } from '../src/parts/level';
import { PastBanner } from '../src/parts/past-banner';
import { Picker } from '../src/parts/picker';
import { DataTable } from '../src/parts/table';
import { WaysIn } from '../src/parts/ways-in';
import { draw, service } from './around';
import { effect as nothing } from './filled';

const numbered = (n: number) => Array.from({ length: n }, (_, i) => ({ name: `row ${i}`, value: (i * 7919) % n }));

const userEvent = event.setup({ delay: 40 });

describe('a table', () => {
  const columns = [
    { head: 'Name', cell: (r: { name: string }) => r.name },
    { head: 'Value', by: (r: { value: number }) => r.value, cell: (r: { value: number }) => r.value },
    { head: '-Remove', cell: () => 'x' },
  ];
  it('draws all of a few, and puts them in order by a head that is pressed', () => {
    draw(<DataTable rows={numbered(7)} rowKey={(r) => r.name} columns={columns} />);
    expect(screen.getAllByRole('row')).toHaveLength(8);
    const second = () =>
      screen
        .getAllByRole('row')
        .slice(1)
        .map((r) => within(r).getAllByRole('cell')[1]?.textContent);
    fireEvent.click(screen.getByRole('button', { name: 'Value' }));
    expect(second()).toEqual([...second()].sort((a, b) => Number(a) - Number(b)));
    expect(screen.getByRole('columnheader', { name: /Value/ }).getAttribute('aria-sort')).toBe('ascending');
    fireEvent.click(screen.getByRole('button', { name: /Value/ }));
    expect(second()).toEqual([...second()].sort((a, b) => Number(b) - Number(a)));
  });
  it('draws only what is seen of ten thousand, and says how many there are', () => {
    draw(<DataTable rows={numbered(10_000)} rowKey={(r) => r.name} columns={columns} />);
    expect(screen.getByRole('table').getAttribute('aria-rowcount')).toBe('10001');
    expect(screen.getAllByRole('row').length).toBeLessThan(100);
  });
  it('asks for more near its end, and not before', () => {
    const end = vi.fn();
    const { unmount } = draw(
      <DataTable rows={numbered(10_000)} rowKey={(r) => r.name} columns={columns} onEnd={end} />,
    );
    expect(end).not.toHaveBeenCalled();
    unmount();
    draw(<DataTable rows={numbered(5)} rowKey={(r) => r.name} columns={columns} onEnd={end} />);
    expect(end).toHaveBeenCalled();
  });
  it('shows below a row what belongs to it', () => {
    draw(
      <DataTable
        rows={numbered(3)}
        rowKey={(r) => r.name}
        columns={columns}
        under={(r) => r.value === 0 && 'more of it'}
      />,
    );
    expect(screen.getByText('more of it').closest('td')?.colSpan).toBe(3);
  });
});

describe('a picker', () => {
  function Two({ several }: { several?: boolean }) {
    const [value, setValue] = useState('');
    return <Picker of="user" aria-label="Who" several={several} value={value} onChange={setValue} />;
  }
  // As one stroke: jsdom draws so slowly that a field is still behind one key when the next is pressed.
  async function write(box: HTMLElement, text: string) {
    await userEvent.click(box);
    fireEvent.change(box, { target: { value: text } });
  }
  const users = [
    { name: 'orla', fullName: 'Orla Finnegan' },
    { name: 'corin', fullName: 'Corin Vale' },
  ];
  it('asks the service for what is typed, and takes what is chosen', async () => {
    const asked = service({ 'GET /api/v1/users': users });
    draw(<Two />);
    const box = screen.getByRole('combobox', { name: 'Who' });
    await write(box, 'or');
    await screen.findByRole('option', { name: /orla/ });
    await waitFor(() => expect(asked.some((a) => a.path.includes('match=or'))).toBe(true));
    await userEvent.keyboard('{ArrowDown}{Enter}');
    await waitFor(() => expect((box as HTMLInputElement).value).toBe('orla'));
  });
  it('goes on to the next where several are wanted, and takes what is not found as well', async () => {
    service({ 'GET /api/v1/users': users });
    draw(<Two several />);
    const box = screen.getByRole<HTMLInputElement>('combobox', { name: 'Who' });
    await write(box, 'nobody-yet, or');
    await screen.findByRole('option', { name: /orla/ });
    await userEvent.keyboard('{ArrowDown}{Enter}');
    await waitFor(() => expect(box.value).toBe('nobody-yet, orla, '));
  });
  it('is a field to type in where nothing may be looked at', async () => {
    service({ 'GET /api/v1/users': { status: 403, detail: 'no' } });
    draw(<Two />);
    const box = screen.getByRole<HTMLInputElement>('combobox', { name: 'Who' });
    await write(box, 'orla');
    expect(box.value).toBe('orla');
    expect(screen.queryByRole('option')).toBeNull();
  });
});

const levels = (text: string) => ({ smb: text, nfs: text, text });
const effect = (of: Partial<Effect>): Effect => ({ ...nothing, ...of });

describe('what a change does', () => {
  it('says who gains and loses, and all of them on request', async () => {
    const people = ['a', 'b', 'c', 'd', 'e', 'f'];
    draw(
      <EffectView
        effect={effect({
          gain: 6,
          lose: 1,
          changes: [
            {
              path: 'plates',
              gains: true,
              loses: false,
              gained: [],
              lost: [],
              was: levels('nothing'),
              is: levels('read'),
              count: 6,
              people,
            },
          ],
        })}
      />,
    );
    screen.getByText('6 people gain, 1 person loses.');
    expect(screen.queryByText(/e, f/)).toBeNull();
    await userEvent.click(screen.getByRole('button', { name: 'and 3 more' }));
    screen.getByText('a, b, c, d, e, f');
  });
  it('is asked before it is made, is made once, and offers to take it back', async () => {
    const asked = service({
      'POST /api/v1/preview': effect({ gain: 1 }),
      'POST /api/v1/changes': { made: 1, row: 90 },
    });
    const done = vi.fn();
    const changes = [{ kind: 'volume', act: 'remove', of: { name: 'summit' } }] as never;
    draw(
      <Previewed title="Forget it?" act="Forget it" done="Gone." changes={changes} onClose={() => {}} onDone={done} />,
    );
    const act = await screen.findByRole('button', { name: 'Forget it' });
    await screen.findByText('1 person gains.');
    expect(asked.filter((a) => a.path.endsWith('/changes'))).toHaveLength(0);
    await userEvent.click(act);
    await waitFor(() => expect(done).toHaveBeenCalledOnce());
    expect(asked.filter((a) => a.path.endsWith('/changes'))).toHaveLength(1);
  });
  it('is not made where it is refused', async () => {
    service({ 'POST /api/v1/preview': { status: 409, detail: 'it is in use', next: 'amber folder list' } });
    const changes = [{ kind: 'volume', act: 'remove', of: { name: 'summit' } }] as never;
    draw(
      <Previewed title="Forget it?" act="Forget it" done="" changes={changes} onClose={() => {}} onDone={() => {}} />,
    );
    await screen.findByText('it is in use');
    screen.getByText('Next: amber folder list');
    expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Forget it' }).disabled).toBe(true);
  });
});

describe('what is refused', () => {
  const refusal = (location: string) =>
    new Refusal(422, { detail: 'no', errors: [{ location, message: 'that is taken' }] });
  const form = () => {
    const setError = vi.fn();
    return { setError, form: { getValues: () => ({ name: '', hosts: '' }), setError } as never };
  };
  it.each([
    ['body.name', 'name'],
    ['body.changes[0].with.name', 'name'],
    ['body.changes[2].with.from', 'hosts'],
  ])('%s stands at its field', (at, field) => {
    const f = form();
    expect(placeRefusal(refusal(at), f.form, { from: 'hosts' } as never)).toBe(true);
    expect(f.setError).toHaveBeenCalledWith(field, { message: 'that is taken' }, { shouldFocus: true });
  });
  it('and is said elsewhere where there is no such field', () => {
    const f = form();
    expect(placeRefusal(refusal('body.colour'), f.form)).toBe(false);
    expect(f.setError).not.toHaveBeenCalled();
  });
});

describe('levels', () => {
  it('are told in words, and never by colour alone', () => {
    draw(<Level level="change" />);
    screen.getByText('change');
  });
  it('are told of each protocol where they differ', () => {
    draw(<Both level={{ smb: 'read', nfs: 'nothing', text: 'read over SMB' }} />);
    expect(document.body.textContent).toContain('read over SMB');
  });
});

describe('entries of a path', () => {
  const place = {
    path: 'plates',
    cut: false,
    explicit: 1,
    entries: [
      {
        id: 1,
        who: 'staff',
        kind: 'group',
        level: 'read',
        deny: false,
        applies: ['folder', 'subfolders', 'files'],
        from: 'plates',
      },
      { id: 2, who: 'orla', kind: 'user', level: 'add', deny: true, applies: ['files'], from: '', note: 'why' },
    ],
  } as never;
  it('are those that are written there, and what is inherited on request', async () => {
    draw(<PlaceSheet place={place} mayChange />);
    expect(screen.getAllByRole('row')).toHaveLength(2);
    await userEvent.click(screen.getByRole('button', { name: 'And what it inherits: 1' }));
    expect(screen.getAllByRole('row')).toHaveLength(3);
    screen.getByRole('button', { name: 'Remove: allow staff read' });
  });
  it('offer nothing to who may only look', () => {
    draw(<PlaceSheet place={place} mayChange={false} />);
    expect(screen.queryByRole('button', { name: /Remove|Change|Add entry|More/ })).toBeNull();
  });
});

it('a page that breaks is told of, and does not take the others with it', () => {
  vi.spyOn(console, 'error').mockImplementation(() => {});
  const Breaks = () => {
    throw new Error('a page without a leg');
  };
  draw(
    <>
      <Broken>
        <Breaks />
      </Broken>
      <p>the rest</p>
    </>,
  );
  expect(screen.getByRole('alert').textContent).toContain('a page without a leg');
  screen.getByText('the rest');
});

it('the past is looked at with a banner, asked for as it was, and not changed', async () => {
  const asked = service({ 'GET /api/v1/users': [], 'POST /api/v1/changes': { made: 1, row: 2 } });
  const { api, taken } = await import('../src/api/client');
  draw(<PastBanner />);
  expect(screen.queryByRole('status')).toBeNull();
  lookAt('2026-11-02T09:00:00.000Z');
  await screen.findByRole('status');
  await taken(api.GET('/api/v1/users'));
  expect(asked.at(-1)?.path).toContain('at=2026-11-02T09');
  await expect(make([])).rejects.toThrow('The past cannot be changed');
  await userEvent.click(screen.getByRole('button', { name: 'Back to now' }));
  await waitFor(() => expect(screen.queryByRole('status')).toBeNull());
  await taken(api.GET('/api/v1/users'));
  expect(asked.at(-1)?.path).not.toContain('at=');
  expect(asked.some((a) => a.method === 'POST')).toBe(false);
});

it('what to type stands by kind of machine, with a code for addresses', async () => {
  draw(
    <WaysIn
      ways={[
        { system: 'Windows', over: 'SMB', does: 'gives it a drive letter', text: 'net use' },
        { system: 'macOS', over: 'SMB', does: 'opens it', text: 'smb://gateway/plates', qr: ['10', '01'] },
      ]}
    />,
  );
  expect(screen.getAllByRole('heading')).toHaveLength(2);
  await userEvent.click(screen.getByRole('button', { name: /For a phone/ }));
  screen.getByRole('img', { name: 'QR code of smb://gateway/plates' });
});

describe('what is open', () => {
  it('says what it was opened for, and what a client has delegated', () => {
    const open = {
      id: 'nfs-1',
      via: 'nfs' as const,
      who: { user: 'piran' },
      address: '192.0.2.1',
      path: 'scratch/plate.fits',
      kind: 'file' as const,
      does: ['read' as const],
      rights: [],
      keeps: [],
      locks: [],
      since: '2026-03-01T22:00:00Z',
    };
    draw(
      <OpenTable
        rows={[open, { ...open, id: 'nfs-2', delegated: true }, { ...open, id: 'nfs-3', does: ['read', 'write'] }]}
      />,
    );
    expect(screen.getByText('read')).toBeTruthy();
    expect(screen.getByText('read (delegated)')).toBeTruthy();
    expect(screen.getByText('read, write')).toBeTruthy();
  });
});
