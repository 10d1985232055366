import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { api, taken } from './client';
import type { components } from './schema.gen';

export type Session = components['schemas']['Session'];
export type Open = components['schemas']['Open'];
export type Event = components['schemas']['Event'];

// What begins with 'live' is asked for anew as something stirs at the wire: see watch.ts.

/** Who and what is asked about; what is empty narrows nothing. */
export type LiveQuery = { who?: string; from?: string; via?: 'smb' | 'nfs'; on?: string; limit?: number };

const given = (q: LiveQuery): LiveQuery => Object.fromEntries(Object.entries(q).filter(([, value]) => value));

export const useSessions = (q: LiveQuery) =>
  useQuery({
    queryKey: ['live', 'sessions', q],
    placeholderData: keepPreviousData,
    refetchInterval: 15_000, // how long something is idle goes on by itself
    queryFn: () => taken(api.GET('/api/v1/sessions', { params: { query: given(q) } })),
  });

export const useOpens = (q: LiveQuery) =>
  useQuery({
    queryKey: ['live', 'opens', q],
    placeholderData: keepPreviousData,
    queryFn: () => taken(api.GET('/api/v1/opens', { params: { query: given(q) } })),
  });

/** What was refused at the wire last, or else done there. */
export const useEvents = (q: { by?: string; on?: string; only?: 'refused' | 'sign-in refused'; limit: number }) =>
  useQuery({
    queryKey: ['live', 'events', q],
    placeholderData: keepPreviousData,
    queryFn: () => taken(api.GET('/api/v1/events', { params: { query: q } })),
  });

export type Status = components['schemas']['Status'];

/** How the service stands. */
export const useStatus = () =>
  useQuery({ queryKey: ['status'], refetchInterval: 15_000, queryFn: () => taken(api.GET('/api/v1/status')) });

export type Throughput = components['schemas']['Throughput'];

/** What was asked over time: since a moment, or so long ago, such as 2h. */
export const useThroughput = (q: { of?: string; since: string; until?: string }) =>
  useQuery({
    queryKey: ['throughput', q],
    placeholderData: keepPreviousData,
    refetchInterval: q.until ? false : 10_000,
    queryFn: () =>
      taken(
        api.GET('/api/v1/throughput', {
          params: { query: { ...(q.of && { of: q.of }), since: sinceOf(q.since), ...(q.until && { until: q.until }) } },
        }),
      ),
  });

const units: Record<string, number> = { min: 60_000, h: 3_600_000, d: 86_400_000 };

/** A moment that is given as such, or as how long ago it is. */
export function sinceOf(since: string, now = Date.now()) {
  const ago = /^(\d+)(min|h|d)$/.exec(since);
  return ago ? new Date(now - Number(ago[1]) * (units[ago[2] ?? ''] ?? 0)).toISOString() : since;
}
