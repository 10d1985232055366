import { existsSync, readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { dirname, join, relative, resolve } from 'node:path';
import { expect, it } from 'vitest';

const web = join(import.meta.dirname, '..');
const src = join(web, 'src');
const table = join(web, '../docs/console-routes.md');

/** What is for programs alone, with why nobody would look for it on a page. */
const forMachines: Record<string, string> = {
  'set-password':
    'a script that makes accounts gives them passwords; on the page of a person one is made, and shown once',
};

type Operation = { operationId: string; summary: string };
type Schema = { properties?: Record<string, { enum?: string[] }> };
const document: { paths: Record<string, Record<string, Operation>>; components: { schemas: Record<string, Schema> } } =
  JSON.parse(readFileSync(join(web, 'openapi.json'), 'utf8'));

/** Each file of the console, with what it takes in. */
const files = new Map<string, { text: string; takes: string[] }>();
for (const name of readdirSync(src, { recursive: true }) as string[]) {
  if (!/\.tsx?$/.test(name) || name.endsWith('.gen.ts')) continue;
  const at = join(src, name);
  const text = readFileSync(at, 'utf8');
  const takes = [...text.matchAll(/(?:from|import\()\s*'(\.[^']+)'/g)].flatMap(([, to]) => {
    const base = resolve(dirname(at), to ?? '');
    return ['.ts', '.tsx'].map((end) => base + end).filter(existsSync);
  });
  files.set(at, { text, takes });
}

/** The pages, by what leads to them, and all that each is made of. */
const pages = new Map<string, Set<string>>();
const main = files.get(join(src, 'main.tsx'))?.text ?? '';
const drawnBy = new Map(
  [...main.matchAll(/const (\w+) = page\(.*?import\('(.\/pages\/[\w-]+)'\)/g)].map((m) => [m[1], m[2]]),
);
for (const [, path, drawn] of main.matchAll(/<Route path="(\/[^"*]*)" element=\{<(\w+)/g)) {
  const file = drawnBy.get(drawn ?? '');
  if (!file || !path) continue;
  const whole = new Set<string>();
  const take = (at: string) => {
    if (whole.has(at)) return;
    whole.add(at);
    for (const next of files.get(at)?.takes ?? []) take(next);
  };
  take(join(src, `${file}.tsx`));
  if ((pages.get(path)?.size ?? 0) < whole.size) pages.set(path, whole);
}
const sign = new Set([join(src, 'pages/sign-in.tsx')]);
const around = new Set([join(src, 'parts/frame.tsx')]);

/** Whether a file asks for an operation: by its route, or by the change that stands for it. */
function asksFor(at: string, method: string, path: string, id: string): boolean {
  const text = files.get(at)?.text ?? '';
  const route = `'${path}'`;
  if (
    text.includes(`api.${method.toUpperCase()}(`) &&
    text.replaceAll(/\s+/g, '').includes(`api.${method.toUpperCase()}(${route}`)
  )
    return true;
  const name = `Change${id.replaceAll(/(^|-)(\w)/g, (_, __, c) => c.toUpperCase())}`;
  const of = document.components.schemas[name]?.properties;
  const [kind, act] = [of?.kind?.enum?.[0], of?.act?.enum?.[0]];
  if (!kind || !act) return false;
  return new RegExp(
    `change\\(\\s*'${kind}',\\s*'${act}'|kind: '${kind}',\\s*act: '${act}'|act: '${act}',\\s*kind: '${kind}'`,
  ).test(text);
}

// What is sent from a place that stands for several: a list of rules is an export's or a host set's.
const alsoIn: Record<string, string> = {
  'add-export-rule': 'parts/rules.tsx',
  'change-export-rule': 'parts/rules.tsx',
  'remove-export-rule': 'parts/rules.tsx',
  'move-export-rule': 'parts/rules.tsx',
  'add-host-set-rule': 'parts/rules.tsx',
  'change-host-set-rule': 'parts/rules.tsx',
  'remove-host-set-rule': 'parts/rules.tsx',
  'move-host-set-rule': 'parts/rules.tsx',
};

it('everything that changes something has its page', () => {
  const lines: string[] = [];
  const missing: string[] = [];
  for (const [path, methods] of Object.entries(document.paths))
    for (const [method, op] of Object.entries(methods)) {
      if (method === 'get' || !op.operationId) continue;
      const asking = [...files.keys()].filter(
        (at) => asksFor(at, method, path, op.operationId) || alsoIn[op.operationId] === relative(src, at),
      );
      const found = [...pages].filter(([, whole]) => asking.some((at) => whole.has(at))).map(([p]) => p);
      const where =
        found.length > 6
          ? ['every page on which something is changed']
          : found.length > 0
            ? found.map((p) => `\`${p}\``)
            : asking.some((at) => sign.has(at))
              ? ['signing in']
              : asking.some((at) => around.has(at))
                ? ['beside every page']
                : [];
      const reason = forMachines[op.operationId];
      if (where.length === 0 && !reason) missing.push(`${method.toUpperCase()} ${path} (${op.operationId})`);
      lines.push(
        `| ${op.summary} | ${method.toUpperCase()} \`${path.replace('/api/v1', '')}\` | ${where.join(', ') || `for programs: ${reason}`} |`,
      );
    }
  expect(missing).toEqual([]);
  expect(lines.length).toBeGreaterThan(80);
  const text = `# Where in the console each change is made

Each operation of the API that changes something, and the pages that do it. A test writes this table from the console's sources, and fails where one is
missing: \`cd web && UPDATE=1 npx vitest run unit/routes.test.ts\`.

| what it does | operation | page |
| --- | --- | --- |
${lines.sort().join('\n')}
`;
  if (process.env.UPDATE) writeFileSync(table, text);
  expect(readFileSync(table, 'utf8')).toBe(text);
});
