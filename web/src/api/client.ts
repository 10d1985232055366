import { t } from '@lingui/core/macro';
import { MutationCache, QueryCache, QueryClient, useQuery } from '@tanstack/react-query';
import createClient from 'openapi-fetch';
import { isRemembered, mustWait, onLook, pastMoment, usePast } from './past';
import type { components, paths } from './schema.gen';
import { allMeant, allSpelled, meant } from './shown';

export type Folder = components['schemas']['Folder'];
export type Place = components['schemas']['Place'];
export type Entry = components['schemas']['Entry'];
export type Export = components['schemas']['Export'];
export type VolumeRoom = components['schemas']['VolumeRoom'];
export type Share = components['schemas']['Share'];
export type Job = components['schemas']['Job'];
export type JournalRow = components['schemas']['JournalRow'];
export type Told = components['schemas']['Told'];
export type Holding = components['schemas']['Holding'];
export type NumberMap = components['schemas']['NumberMap'];
export type HostSet = components['schemas']['HostSet'];
export type ServerName = components['schemas']['ServerName'];
export type ClientRule = components['schemas']['ClientRule'];
export type RuleBody = components['schemas']['RuleBody'];
export type Why = components['schemas']['Why'];
export type Gate = components['schemas']['Gate'];
export type Effect = components['schemas']['Effect'];
export type Finding = components['schemas']['Finding'];
export type Change = components['schemas']['Change'];
export type Who = components['schemas']['Who'];
export type Levels = components['schemas']['Levels'];
export type Matrix = components['schemas']['Matrix'];
export type Roster = components['schemas']['Roster'];
export type RosterRead = components['schemas']['RosterRead'];
export type User = components['schemas']['User'];
export type Me = components['schemas']['Me'];
export type Spot = components['schemas']['Spot'];
export type Person = components['schemas']['Person'];
export type Profile = components['schemas']['Profile'];
export type Group = components['schemas']['Group'];
export type SignInNow = components['schemas']['SignInNow'];
export type Token = components['schemas']['Token'];
export type Review = components['schemas']['Review'];
export type ReviewLine = components['schemas']['ReviewLine'];
export type Arrangement = components['schemas']['Arrangement'];
export type Use = components['schemas']['Use'];
export type Standing = components['schemas']['Standing'];
export type LimitBody = components['schemas']['LimitBody'];
export type Notice = components['schemas']['Notice'];
export type NoticeSettings = components['schemas']['NoticeSettings'];
export type NoticeChanges = paths['/api/v1/notices/settings']['patch']['requestBody']['content']['application/json'];
export type Sized = components['schemas']['Sized'];
export type Hook = components['schemas']['Hook'];
export type Letter = components['schemas']['Letter'];
export type Level = 'pass' | 'read' | 'add' | 'change' | 'control';
type Problem = components['schemas']['Problem'];

/** The query and the parts of a path, as they are meant. */
const meantAddress = (url: string) => {
  const u = new URL(url, window.location.href);
  for (const [name, value] of [...u.searchParams]) if (meant(value) !== value) u.searchParams.set(name, meant(value));
  u.pathname = u.pathname
    .split('/')
    .map((part) => encodeURIComponent(meant(decodeURIComponent(part))))
    .join('/');
  return u.toString();
};

/** Asks the service: names are spelled back on the way out, and spelled out on the way in (see shown.ts). */
async function ask(input: globalThis.Request): Promise<Response> {
  const text = input.body ? await input.text() : '';
  const at = pastMoment();
  const path = new URL(input.url, window.location.href).pathname;
  if (at && mustWait(input.method, path)) throw new LooksBack();
  const response = await fetch(at && isRemembered(path) ? asOf(meantAddress(input.url), at) : meantAddress(input.url), {
    method: input.method,
    headers: input.headers,
    body: text ? JSON.stringify(allMeant(JSON.parse(text))) : undefined,
  });
  if (!/json/.test(response.headers.get('Content-Type') ?? '')) return response;
  return new Response(JSON.stringify(allSpelled(await response.json())), {
    status: response.status,
    headers: response.headers,
  });
}

export const api = createClient<paths>({ baseUrl: '/', fetch: ask });

/** An address, asked as of a moment. */
function asOf(url: string, at: string) {
  const u = new URL(url, window.location.href);
  if (!u.searchParams.has('at')) u.searchParams.set('at', at);
  return u.toString();
}

/** The address of something to be had as a file: as of the moment that is looked at. */
export const fileAt = (url: string) => {
  const at = pastMoment();
  return at && isRemembered(new URL(url, window.location.href).pathname) ? asOf(url, at) : url;
};

/** What the service answered instead of what was asked for. */
export class Refusal extends Error {
  readonly status: number;
  readonly next?: string;
  /** What is to be given or done first. */
  readonly need?: Problem['need'];
  /** It is done if it is asked for again, knowing. */
  readonly confirm: boolean;
  /** What is wrong where, as the service names it. */
  readonly fields: { at: string; says: string }[];
  constructor(status: number, problem?: Partial<Problem>) {
    const details = (problem?.errors ?? []).map((e) => e.message).filter((m) => m && m !== problem?.detail);
    const says = [problem?.detail ?? t`The service answered ${status}.`, ...details];
    if (status >= 500 && problem?.request) says.push(t`request ${problem.request}`);
    super(says.join(' – '));
    this.status = status;
    this.next = problem?.next;
    this.need = problem?.need;
    this.confirm = problem?.confirm ?? false;
    this.fields = (problem?.errors ?? []).map((e) => ({
      at: e.location ?? '',
      says: e.message ?? problem?.detail ?? '',
    }));
  }
}

/** Something was to be changed while the past is looked at. */
class LooksBack extends Refusal {
  constructor() {
    super(409, { detail: t`The past cannot be changed: come back to now first.` });
  }
}

/** Gives the data of an answer, or throws the refusal. */
export async function taken<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer;
  if (!response.ok) throw new Refusal(response.status, error as Partial<Problem>);
  return data as T;
}

/** Makes changes as one, or none of them. */
export const make = (changes: Change[]) => taken(api.POST('/api/v1/changes', { body: { changes } }));

/** Takes a row of the journal back. */
export const undo = (row: number) => taken(api.POST('/api/v1/journal/undo', { body: { rows: [row] } }));

export const client: QueryClient = new QueryClient({
  defaultOptions: {
    queries: { retry: (n, e) => !(e instanceof Refusal) && n < 2, staleTime: 5_000 },
  },
  queryCache: new QueryCache({ onError: signedOut }),
  mutationCache: new MutationCache({
    // A password that is asked for and is wrong ends no session.
    onError: (error, _given, _context, mutation) => mutation.meta?.asksPassword || signedOut(error),
  }),
});

/** Says who is signed in from now on, and forgets what somebody else was shown. */
export function nowSignedIn(me: { user: string; role: Me['role'] } | null) {
  client.removeQueries({ predicate: (q) => q.queryKey[0] !== 'me' });
  client.setQueryData(['me'], me && { codes: false, decides: [], owns: [], ...me });
  if (me) client.invalidateQueries({ queryKey: ['me'] });
}

// What was shown of another moment is asked for anew.
onLook(() => client.resetQueries({ predicate: (q) => q.queryKey[0] !== 'me' }));

/** A session that has ended anywhere ends here. */
function signedOut(error: Error) {
  if (error instanceof Refusal && error.status === 401) nowSignedIn(null);
}

/** How it is asked who is signed in: null is nobody. */
export const who = {
  queryKey: ['me'],
  queryFn: async () => {
    try {
      return await taken(api.GET('/api/v1/me'));
    } catch (e) {
      if (e instanceof Refusal && e.status === 401) return null;
      throw e;
    }
  },
  staleTime: 10_000,
};

export const useMe = () => {
  const past = usePast();
  return useQuery({
    ...who,
    refetchInterval: (q) => (q.state.data ? 10_000 : false),
    // The past is for looking at, whoever one is.
    select: (me): Me | null => (me && past && me.role !== 'user' ? { ...me, role: 'auditor' } : me),
  });
};

export const useHealth = () => useQuery({ queryKey: ['health'], queryFn: () => taken(api.GET('/api/v1/health')) });
export const useFolders = () =>
  useQuery({ queryKey: ['folders'], queryFn: async () => (await taken(api.GET('/api/v1/folders'))) ?? [] });
export const useFolder = (name: string) =>
  useQuery({
    queryKey: ['folders', name],
    queryFn: () => taken(api.GET('/api/v1/folders/{name}', { params: { path: { name } } })),
  });
export const useConnect = (name: string) =>
  useQuery({
    queryKey: ['connect', name],
    queryFn: () => taken(api.GET('/api/v1/folders/{name}/connect', { params: { path: { name }, query: {} } })),
  });
export const useExports = () =>
  useQuery({ queryKey: ['exports'], queryFn: async () => (await taken(api.GET('/api/v1/exports'))) ?? [] });
export const useHostSets = () =>
  useQuery({ queryKey: ['exports', 'sets'], queryFn: async () => (await taken(api.GET('/api/v1/host-sets'))) ?? [] });
export const useServerNames = () =>
  useQuery({
    queryKey: ['server-names'],
    queryFn: async () => (await taken(api.GET('/api/v1/server-names'))) ?? [],
  });
export const useVolumes = () =>
  useQuery({
    queryKey: ['volumes'],
    refetchInterval: 30_000,
    queryFn: async () => {
      const all = (await taken(api.GET('/api/v1/volumes'))) ?? [];
      return Promise.all(
        all.map((v) => taken(api.GET('/api/v1/volumes/{name}', { params: { path: { name: v.name } } }))),
      );
    },
  });
export const useServices = () =>
  useQuery({ queryKey: ['services'], queryFn: async () => (await taken(api.GET('/api/v1/services'))) ?? [] });
export const useShares = () =>
  useQuery({ queryKey: ['shares'], queryFn: async () => (await taken(api.GET('/api/v1/shares'))) ?? [] });
export const useJobs = () =>
  useQuery({
    queryKey: ['jobs'],
    refetchInterval: (q) => (q.state.data?.some((j) => !j.over) ? 2_000 : 15_000),
    queryFn: async () => (await taken(api.GET('/api/v1/jobs'))) ?? [],
  });
export const useNumberMaps = () =>
  useQuery({ queryKey: ['numbers', 'maps'], queryFn: async () => (await taken(api.GET('/api/v1/number-maps'))) ?? [] });
export const useHoldings = () =>
  useQuery({ queryKey: ['holdings'], queryFn: async () => (await taken(api.GET('/api/v1/holdings'))) ?? [] });
export const useRemembered = () =>
  useQuery({ queryKey: ['numbers', 'seen'], queryFn: async () => (await taken(api.GET('/api/v1/ids'))) ?? [] });
export const useMode = (path: string, on: boolean) =>
  useQuery({
    queryKey: ['mode', path],
    enabled: on,
    queryFn: () => taken(api.GET('/api/v1/mode', { params: { query: { path } } })),
  });
export const useFindings = (all: boolean, on = true) =>
  useQuery({
    queryKey: ['findings', all],
    enabled: on,
    queryFn: () => taken(api.GET('/api/v1/findings', { params: { query: { all } } })),
  });
export const useArrangements = () =>
  useQuery({
    queryKey: ['arrangements'],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => taken(api.GET('/api/v1/arrangements')),
  });
export const useUsers = () =>
  useQuery({ queryKey: ['users'], queryFn: async () => (await taken(api.GET('/api/v1/users'))) ?? [] });
export const useUser = (name: string) =>
  useQuery({
    queryKey: ['users', name],
    queryFn: () => taken(api.GET('/api/v1/users/{name}', { params: { path: { name } } })),
  });
export const useGroups = () =>
  useQuery({ queryKey: ['groups'], queryFn: async () => (await taken(api.GET('/api/v1/groups'))) ?? [] });
export const useProfiles = () =>
  useQuery({ queryKey: ['profiles'], queryFn: () => taken(api.GET('/api/v1/profiles')) });

export const useUses = (by: Use['by'], name: string) =>
  useQuery({
    queryKey: ['use', by, name],
    refetchInterval: 5_000,
    placeholderData: (before) => before,
    queryFn: () => taken(api.GET('/api/v1/use', { params: { query: { by, name, limit: 100 } } })),
  });
export const useHistory = (by: Use['by'], name: string, days: number) =>
  useQuery({
    queryKey: ['use', 'history', by, name, days],
    queryFn: () => taken(api.GET('/api/v1/use/history', { params: { query: { by, name, days } } })),
  });
export const useLimits = () =>
  useQuery({ queryKey: ['limits'], queryFn: async () => (await taken(api.GET('/api/v1/limits'))) ?? [] });

export const useNotices = () =>
  useQuery({
    queryKey: ['notices', 'told'],
    refetchInterval: 10_000,
    queryFn: () => taken(api.GET('/api/v1/notices', { params: { query: { limit: 200 } } })),
  });
export const useUnsent = () =>
  useQuery({
    queryKey: ['notices', 'unsent'],
    refetchInterval: 10_000,
    queryFn: () => taken(api.GET('/api/v1/notices/unsent')),
  });
export const useNoticeSettings = () =>
  useQuery({ queryKey: ['notices', 'settings'], queryFn: () => taken(api.GET('/api/v1/notices/settings')) });
export const useLetters = () =>
  useQuery({ queryKey: ['notices', 'letters'], queryFn: () => taken(api.GET('/api/v1/notices/templates')) });
export const useHooks = () =>
  useQuery({ queryKey: ['notices', 'hooks'], queryFn: () => taken(api.GET('/api/v1/notices/hooks')) });

export const levels: { level: Level; means: string }[] = [
  { level: 'pass', means: t`go through, and see nothing` },
  { level: 'read', means: t`list and read` },
  { level: 'add', means: t`put new things in, and change nothing` },
  { level: 'change', means: t`read, add, alter and delete` },
  { level: 'control', means: t`change, and decide who else may` },
];
