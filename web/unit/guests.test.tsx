import { screen, waitFor } from '@testing-library/react';
import { describe, expect, it } from 'vitest';
import { Guests } from '../src/parts/guests';
import { draw, service } from './around';
import { answers, nothingAsked, press, previewed, write } from './filled';

describe('guests', () => {
  it.each([
    [undefined, 'visitor', 'visitor'],
    ['visitor', '', ''],
    ['visitor', ' wren ', 'wren'],
  ])('from %o to %o', async (was, typed, guest) => {
    const asked = service(answers);
    draw(<Guests guest={was} mayChange />);
    press('Change who guests are');
    await write('Guests come in as', typed);
    press('See what it does');
    expect(await previewed(asked)).toEqual([
      { kind: 'service', act: 'switch', of: { protocol: 'smb' }, with: { guest } },
    ]);
  });
  it('asks for nothing where nothing is other than before', async () => {
    const asked = service(answers);
    draw(<Guests guest="visitor" mayChange />);
    press('Change who guests are');
    await write('Guests come in as', 'visitor');
    press('See what it does');
    await waitFor(() => expect(screen.queryByLabelText('Guests come in as')).toBeNull());
    nothingAsked(asked);
  });
  it('says it to who may not change it', () => {
    service(answers);
    draw(<Guests mayChange={false} />);
    expect(screen.getByText('Nobody comes in without an account')).toBeTruthy();
    expect(screen.queryByRole('button')).toBeNull();
  });
});
