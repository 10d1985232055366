// What the tests of the console share: a service, a browser, and a look for what is in the way of those who do not see, or use no mouse.
import assert from 'node:assert/strict';
import { spawn } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { chromium } from 'playwright-core';

const amber = process.env.AMBER ?? join(import.meta.dirname, '../../bin/amber');
const browserPath = ['/usr/bin/chromium', '/usr/bin/chromium-browser'].find(existsSync);
export const state = mkdtempSync(join(tmpdir(), 'amber-console-'));

/** Starts the service and waits for its address. */
export async function start(...flags) {
  const child = spawn(
    amber,
    [
      'serve',
      '--state',
      mkdtempSync(join(state, 's-')),
      '--console',
      '127.0.0.1:0',
      '--smb',
      '127.0.0.1:0',
      '--nfs',
      '127.0.0.1:0',
      ...flags,
    ],
    { stdio: ['ignore', 'pipe', 'inherit'] },
  );
  const text = await new Promise((resolve, reject) => {
    let all = '';
    child.stdout.on('data', (d) => {
      all += d;
      if (/console and API {2}http/.test(all) && (flags.includes('--demo') || all.includes('--code '))) resolve(all);
    });
    child.on('exit', (code) => reject(new Error(`amber serve ended with ${code}`)));
  });
  const smb = text.match(/\n\s+SMB\s+\S+:(\d+)/)?.[1];
  return { child, url: text.match(/http:\/\/\S+/)[0], smb, code: text.match(/--code (\S+)/)?.[1] };
}

export async function stop(s) {
  s.child.removeAllListeners('exit');
  const ended = new Promise((resolve) => s.child.once('exit', resolve));
  s.child.kill('SIGTERM');
  await ended;
}

/** Starts the browser. */
export async function launch() {
  assert.ok(browserPath, 'Chromium is not installed: make test installs it');
  return chromium.launch({
    executablePath: browserPath,
    args: [
      '--no-sandbox',
      '--disable-gpu',
      '--disable-quic',
      '--no-first-run',
      '--disable-background-networking',
      '--disable-component-update',
      '--disable-sync',
    ],
  });
}

/** Takes what the services wrote away. */
export const tidy = () => rmSync(state, { recursive: true, force: true });

/** How long a page has to get somewhere: a bound for a machine that is busy, not a time to be kept. */
export const patience = Number(process.env.PATIENCE ?? 120_000);

const axe = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');

/** Nothing serious is wrong with a page for those who do not see it, or use no mouse. */
export async function accessible(p, what) {
  await p.waitForTimeout(500); // until what came in has come in
  await p.evaluate(axe);
  const { violations } = await p.evaluate(() => globalThis.axe.run(document, { resultTypes: ['violations'] }));
  const bad = violations.filter((v) => v.impact === 'serious' || v.impact === 'critical');
  assert.deepEqual(
    bad.map((v) => `${v.id}: ${v.nodes.map((n) => n.html).join(' ')}`),
    [],
    what,
  );
}
