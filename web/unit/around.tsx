import { ChakraProvider } from '@chakra-ui/react';
import { QueryClientProvider } from '@tanstack/react-query';
import { render } from '@testing-library/react';
import type { ReactNode } from 'react';
import { MemoryRouter } from 'react-router';
import { vi } from 'vitest';
import { client } from '../src/api/client';
import { system } from '../src/theme';

/** What was asked of the service: method, path with query, and body. */
export type Asked = { method: string; path: string; body?: unknown };

/** Answers by the beginning of what is asked: "GET /api/v1/users". What is not known is refused with 404. */
export function service(answers: Record<string, unknown | ((asked: Asked) => unknown)>) {
  const asked: Asked[] = [];
  vi.spyOn(globalThis, 'fetch').mockImplementation(async (input, init) => {
    const url = new URL(String(input), 'http://gateway.larkfell.example');
    const one: Asked = {
      method: init?.method ?? 'GET',
      path: url.pathname + url.search,
      ...(typeof init?.body === 'string' && { body: JSON.parse(init.body) }),
    };
    asked.push(one);
    const known = Object.keys(answers)
      .filter((k) => `${one.method} ${one.path}`.startsWith(k))
      .sort((a, b) => b.length - a.length)[0];
    const answer = known === undefined ? undefined : answers[known];
    const is = typeof answer === 'function' ? answer(one) : answer;
    const refused = is === undefined || (typeof is === 'object' && is !== null && 'status' in is);
    return new Response(JSON.stringify(is ?? { status: 404, detail: `nothing is at ${one.path}` }), {
      status: refused ? ((is as { status?: number } | undefined)?.status ?? 404) : 200,
      headers: { 'Content-Type': refused ? 'application/problem+json' : 'application/json' },
    });
  });
  return asked;
}

/** Draws something as it stands in the console. */
export function draw(what: ReactNode, at = '/') {
  client.clear();
  return render(
    <ChakraProvider value={system}>
      <QueryClientProvider client={client}>
        <MemoryRouter initialEntries={[at]}>{what}</MemoryRouter>
      </QueryClientProvider>
    </ChakraProvider>,
  );
}
