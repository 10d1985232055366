import { fireEvent, screen } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { leadChanges, leadsOf, leadsText, ServerNames } from '../src/parts/server-names';
import { draw, service } from './around';
import { answers, fill, nothingAsked, press, previewed } from './filled';

const barn = {
  name: 'barn',
  description: 'the server before this one',
  leads: [
    { share: 'raw', to: 'plates' },
    { share: 'old', to: '\\\\vault\\old', elsewhere: true },
  ],
};

describe('leads as they are typed', () => {
  it.each([
    ['', []],
    ['raw = plates', [{ share: 'raw', to: 'plates' }]],
    [
      ' raw=plates \n\n old = \\\\vault\\a=b ',
      [
        { share: 'raw', to: 'plates' },
        { share: 'old', to: '\\\\vault\\a=b' },
      ],
    ],
    ['raw', [{ share: 'raw', to: 'raw' }]],
    ['raw =', [{ share: 'raw', to: '' }]],
  ])('%o', (text, leads) => expect(leadsOf(text)).toEqual(leads));
  it('are read as they are shown', () =>
    expect(leadsOf(leadsText(barn.leads))).toEqual(barn.leads.map(({ share, to }) => ({ share, to }))));
  it('are told apart from those there were', () => {
    const [raw, old] = [
      { share: 'raw', to: 'plates' },
      { share: 'old', to: '\\\\vault\\old' },
    ];
    expect(leadChanges([raw, old], [raw, old])).toEqual([]);
    expect(leadChanges([raw, old], [raw])).toEqual([{ share: 'old', to: '' }]);
    expect(leadChanges([raw], [{ share: 'raw', to: 'nightlog' }])).toEqual([{ share: 'raw', to: 'nightlog' }]);
    expect(leadChanges([raw], [{ share: 'RAW', to: 'plates' }])).toEqual([{ share: 'RAW', to: 'plates' }]);
    expect(leadChanges([], [old])).toEqual([old]);
  });
});

describe('another name of the server', () => {
  const begun = async (names: unknown[] = [barn]) => {
    const asked = service({ ...answers, 'GET /api/v1/server-names': names });
    draw(<ServerNames mayChange />);
    await screen.findByText('Other names of the server, over SMB');
    return asked;
  };
  const shares = (text: string) =>
    fireEvent.change(screen.getByLabelText('Where its shares are now'), { target: { value: text } });
  it('is added', async () => {
    const asked = await begun([]);
    press('Add a name');
    fill('Name', ' shed ');
    shares('raw = plates');
    press('See what it does');
    expect(await previewed(asked)).toEqual([
      { kind: 'server name', act: 'add', with: { name: 'shed', leads: [{ share: 'raw', to: 'plates' }] } },
    ]);
  });
  it('is asked for', async () => {
    const asked = await begun([]);
    press('Add a name');
    press('See what it does');
    await screen.findByText('This is to be filled in.');
    nothingAsked(asked);
  });
  it('is changed by what is other than before', async () => {
    const asked = await begun();
    press(/^Change/);
    shares('raw = nightlog');
    press('See what it does');
    expect(await previewed(asked)).toEqual([
      {
        kind: 'server name',
        act: 'change',
        of: { name: 'barn' },
        with: {
          leads: [
            { share: 'raw', to: 'nightlog' },
            { share: 'old', to: '' },
          ],
        },
      },
    ]);
  });
  it('that is left as it is changes nothing', async () => {
    const asked = await begun();
    press(/^Change/);
    press('See what it does');
    nothingAsked(asked);
  });
  it('is taken away', async () => {
    const asked = await begun();
    press(/^Remove/);
    expect(await previewed(asked)).toEqual([{ kind: 'server name', act: 'remove', of: { name: 'barn' } }]);
  });
  it('is not to be changed by who may not', async () => {
    service({ ...answers, 'GET /api/v1/server-names': [barn] });
    draw(<ServerNames mayChange={false} />);
    await screen.findByText('barn');
    expect(screen.queryByRole('button', { name: /Change|Remove|Add/ })).toBeNull();
  });
});
