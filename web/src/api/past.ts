import { useSyncExternalStore } from 'react';

/**
 * The moment as of which the console shows the records: now, unless somebody looks at the past. It is kept for the tab, and can be
 * given in an address, as ?asOf=2026-11-02T09:00:00Z.
 */
const kept = 'amber as of';
const told = new Set<() => void>();

function begun(): string | null {
  const given = new URLSearchParams(location.search).get('asOf');
  if (given && !Number.isNaN(Date.parse(given))) {
    sessionStorage.setItem(kept, new Date(given).toISOString());
    const u = new URL(location.href);
    u.searchParams.delete('asOf');
    history.replaceState(history.state, '', u);
  }
  return sessionStorage.getItem(kept);
}

let at = begun();

/** The moment, as it is asked for; null for now. */
export const pastMoment = () => at;

/** Looks at another moment; null comes back to now. */
export function lookAt(moment: string | null) {
  at = moment;
  if (moment) sessionStorage.setItem(kept, moment);
  else sessionStorage.removeItem(kept);
  for (const tell of told) tell();
}

/** Is told when another moment is looked at. */
export function onLook(tell: () => void) {
  told.add(tell);
  return () => told.delete(tell);
}

/** The moment that is looked at, as it changes. */
export const usePast = () => useSyncExternalStore(onLook, pastMoment);

const remembered =
  /^\/api\/v1\/(volumes|folders|shares|exports|host-sets|server-names|users|groups|profiles|number-maps|notices\/hooks|reviews)(\/[^/]+)?$|^\/api\/v1\/(limits|services|entries|browse|who|why|reach|matrix|findings|reports\/[^/]+)$/;

/** Whether the service can answer it as of a moment that has passed. */
export const isRemembered = (path: string) => remembered.test(path) && path !== '/api/v1/users/export';

/** What changes nothing though it is no question: it may be asked while one looks at the past. */
const harmless = /^\/api\/v1\/(sign-out|sign-in|users\/import\/read)$/;

/** Whether asking for it has to wait until one is back. */
export const mustWait = (method: string, path: string) => method !== 'GET' && !harmless.test(path);
