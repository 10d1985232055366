import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';
import { expect, it } from 'vitest';

const dist = join(import.meta.dirname, '../dist');
const weighs = (name: string) => gzipSync(readFileSync(join(dist, name))).length;

// make test builds the console before it comes here.
it.runIf(existsSync(join(dist, 'index.html')))('the first load and each page are as light as they are to be', () => {
  const first = [
    ...readFileSync(join(dist, 'index.html'), 'utf8').matchAll(/(?:src|href)="\/(assets\/[^"]+\.(?:js|css))"/g),
  ].map((m) => m[1] ?? '');
  expect(first.length).toBeGreaterThan(2);
  const load = first.reduce((n, name) => n + weighs(name), 0);
  console.log(`the first load: ${Math.round(load / 1000)} kB, compressed`);
  expect(load).toBeLessThan(250_000);
  for (const name of readdirSync(join(dist, 'assets')).filter(
    (n) => n.endsWith('.js') && !first.includes(`assets/${n}`),
  ))
    expect(weighs(`assets/${name}`), name).toBeLessThan(150_000);
});
