import { fireEvent, screen, waitFor } from '@testing-library/react';
import { expect } from 'vitest';
import type { Effect } from '../src/api/client';
import type { Asked } from './around';

// How forms are filled in by tests, and what was asked of the service by them.

export const effect: Effect = {
  gain: 0,
  lose: 0,
  added: 0,
  removed: 0,
  changes: [],
  powers: [],
  warnings: [],
  fixed: [],
};
export const answers = {
  'POST /api/v1/preview': effect,
  'POST /api/v1/changes': { made: 1, row: 7 },
  'GET /api/v1/me': { user: 'keeper', role: 'administrator', codes: false, decides: [], owns: [] },
  'GET /api/v1/profiles': [{ name: 'student' }, { name: 'visitor' }],
  'GET /api/v1/users': [],
  'GET /api/v1/groups': [],
  'GET /api/v1/host-sets': [],
};

/** Fills in what has that label. */
export const fill = (label: string, value: string) =>
  fireEvent.change(screen.getByLabelText(label), { target: { value } });
export const press = (name: string | RegExp) => fireEvent.click(screen.getByRole('button', { name }));
/** Ticks a box, or takes the tick away. */
export async function tick(name: string | RegExp) {
  const box = screen.getByRole<HTMLInputElement>('checkbox', { name });
  const was = box.checked;
  fireEvent.click(box);
  await waitFor(() => expect(box.checked).toBe(!was));
}
/** Writes into a field that looks for what is typed. */
export async function write(label: string, text: string) {
  const box = await screen.findByRole<HTMLInputElement>('combobox', { name: label });
  fireEvent.focus(box);
  await new Promise((r) => setTimeout(r, 30));
  fireEvent.change(box, { target: { value: text } });
  await new Promise((r) => setTimeout(r, 30));
  expect(box.value).toBe(text);
}

export const changesOf = (a?: Asked) => (a?.body as { changes: unknown[] } | undefined)?.changes;

/** What was asked to be shown before it is made. */
export const previewed = async (asked: Asked[]) => {
  await waitFor(() => expect(asked.some((a) => a.path === '/api/v1/preview')).toBe(true));
  return changesOf(asked.filter((a) => a.path === '/api/v1/preview').at(-1));
};
export const nothingAsked = (asked: Asked[]) => expect(asked.filter((a) => a.method !== 'GET')).toEqual([]);
