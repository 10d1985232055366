import { useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { api, Refusal, taken } from './client';

/** What can be looked for by the beginning of a name. */
export type Sought = 'user' | 'group' | 'who' | 'folder' | 'path' | 'host' | 'review';

/** Something that was found: what it is called, what is said of it, and what it is. */
export type Found = { name: string; says?: string; kind: Sought };

const [most, asked] = [8, 40];

/** Those whose name, or what is said of them, holds the text: first those that begin with it. The service looks in addresses as well. */
export function nearest(found: Found[], text: string): Found[] {
  const t = text.toLowerCase();
  const place = (f: Found) =>
    f.name.toLowerCase().startsWith(t)
      ? 0
      : f.name.toLowerCase().includes(t)
        ? 1
        : f.says?.toLowerCase().includes(t)
          ? 2
          : 3;
  return found
    .filter((f) => place(f) < 3)
    .sort((a, b) => place(a) - place(b))
    .slice(0, most);
}

/** Waits until nothing has been typed for a moment. */
export function useSettled<T>(value: T, ms = 350): T {
  const [settled, setSettled] = useState(value);
  const text = JSON.stringify(value);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is equal by its text is the same
  useEffect(() => {
    const t = setTimeout(() => setSettled(value), ms);
    return () => clearTimeout(t);
  }, [text]);
  return settled;
}

const query = (match: string) => ({ params: { query: { match, limit: asked, sort: 'name' } } });

const users = async (match: string): Promise<Found[]> => {
  const all = (await taken(api.GET('/api/v1/users', query(match)))) ?? [];
  return nearest(
    all.filter((u) => !u.left).map((u) => ({ name: u.name, says: u.fullName, kind: 'user' })),
    match,
  );
};

const groups = async (match: string): Promise<Found[]> => {
  const all = (await taken(api.GET('/api/v1/groups', query(match)))) ?? [];
  return nearest(
    all.map((g) => ({ name: g.name, says: g.description, kind: 'group' })),
    match,
  );
};

const folders = async (match: string): Promise<Found[]> => {
  const all = (await taken(api.GET('/api/v1/folders', query(match)))) ?? [];
  return nearest(
    all.map((f) => ({ name: f.name, says: f.description, kind: 'folder' })),
    match,
  );
};

/** The directories below the last / of a path. */
async function paths(text: string): Promise<Found[]> {
  const slash = text.lastIndexOf('/');
  if (slash < 0) return folders(text);
  const [path, begun] = [text.slice(0, slash), text.slice(slash + 1)];
  const answer = await taken(
    api.GET('/api/v1/browse', { params: { query: { path, match: begun, limit: most, only: 'directories' } } }),
  );
  return answer.below.map((b) => ({ name: `${path}/${b.name}`, says: b.owner, kind: 'path' }));
}

const find: Record<Sought, (text: string) => Promise<Found[]>> = {
  user: users,
  group: groups,
  who: async (text) => {
    const [g, u] = await Promise.all([groups(text), users(text)]);
    const roles = (['everyone@', 'owner@', 'group@'] as const).filter((r) => r.startsWith(text.toLowerCase()));
    return [...g.slice(0, 5), ...u.slice(0, 5), ...roles.map((name): Found => ({ name, kind: 'who' }))];
  },
  folder: folders,
  path: paths,
  host: async (text) => {
    const match = text.replace(/^@/, '');
    const sets = await taken(api.GET('/api/v1/host-sets', { params: { query: { match, limit: most } } }));
    return (sets ?? []).map((s) => ({ name: `@${s.name}`, says: s.description, kind: 'host' }));
  },
  review: async (match) => {
    const all = await taken(api.GET('/api/v1/reviews', { params: { query: { match, limit: most } } }));
    return (all ?? []).map((r) => ({ name: r.name, says: r.folders.join(', '), kind: 'review' }));
  },
};

/** What is found under a text that is being typed: a few. Nothing, where one may not look. */
export function useFound(kind: Sought, typed: string, on: boolean): Found[] {
  const text = useSettled(typed, 150);
  const found = useQuery({
    queryKey: ['find', kind, text],
    enabled: on,
    placeholderData: (had) => had,
    queryFn: async () => {
      try {
        return await find[kind](text);
      } catch (e) {
        if (e instanceof Refusal && e.status !== 401) return [];
        throw e;
      }
    },
  });
  return found.data ?? [];
}
