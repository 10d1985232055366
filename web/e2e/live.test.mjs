// What is connected, what is open and what is asked at the wire, with a client of other hands at it.
import assert from 'node:assert/strict';
import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { accessible, launch, patience, start, state, stop, tidy } from './around.mjs';

const busy = join(import.meta.dirname, '../../test/clients/busy.py');
let service, browser;

before(async () => {
  service = await start('--demo', '--backup-to', mkdtempSync(join(state, 'copies-')));
  browser = await launch();
});
after(async () => {
  await browser?.close();
  if (service) await stop(service);
  tidy();
});

/** A client that writes and reads for so long. */
async function client(user, share, seconds) {
  const child = spawn('/usr/bin/python3', [busy, service.smb, user, share, String(seconds)], {
    stdio: ['ignore', 'pipe', 'pipe'],
  });
  let said = '';
  child.stderr.on('data', (d) => {
    said += d;
  });
  const ended = new Promise((resolve) => child.once('exit', (code) => resolve({ code, said })));
  await Promise.race([
    new Promise((resolve) => child.stdout.once('data', resolve)),
    ended.then((e) => assert.fail(`the client ended with ${e.code}: ${e.said}`)),
  ]);
  return { child, ended };
}

async function signedIn(who) {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
  context.setDefaultTimeout(patience);
  const p = await context.newPage();
  await p.goto(service.url);
  await p.getByLabel('User name').fill(who);
  await p.getByLabel('Password', { exact: true }).fill(`${who}-at-larkfell`);
  await p.keyboard.press('Enter');
  await p.getByRole('heading', { name: 'Overview', exact: true }).waitFor();
  return p;
}

test('who is connected is seen as they come, what they hold open is closed, and their session is ended', async () => {
  const p = await signedIn('keeper');
  await p.getByRole('link', { name: 'Live', exact: true }).first().click();
  await p.getByText('Nobody is connected.').waitFor();
  await accessible(p, 'live, with nobody there');
  const one = await client('isolde', 'nightlog', 300);
  const sessions = p.getByRole('table', { name: 'Sessions' });
  await sessions.getByRole('row', { name: /isolde.*SMB 3\.0.*nightlog/ }).waitFor(); // without asking again
  await sessions
    .getByRole('cell', { name: /[1-9].* kB|MB/ })
    .first()
    .waitFor();
  await accessible(p, 'live, with somebody there');

  await p.getByRole('tab', { name: 'Open' }).click();
  const row = p.getByRole('row', { name: /nightlog\/busy-isolde\.bin/ });
  await row.getByText('read, write, delete').waitFor();
  await accessible(p, 'live: what is open');
  await p.getByRole('combobox', { name: 'In which folder' }).fill('plates');
  await p.getByText('Nothing of which that is so is open.').waitFor();
  assert.match(p.url(), /on=plates/);
  await p.goBack();
  await p.goto(`${service.url}/live?show=open&on=nightlog`);
  await row.getByRole('button', { name: /Close nightlog\/busy-isolde\.bin/ }).click();
  const asks = p.getByRole('alertdialog');
  await asks.getByText('Its locks are given up').waitFor();
  await asks.getByRole('button', { name: 'Close', exact: true }).click();
  await p.getByText('It is closed.').waitFor();
  const closed = await one.ended;
  assert.match(closed.said, /STATUS_FILE_CLOSED/);

  const other = await client('piran', 'nightlog', 300);
  await p.goto(`${service.url}/live?who=piran`);
  await p.getByRole('button', { name: 'End the session of piran' }).click();
  await asks.getByText('Who still may comes back by themselves').waitFor();
  await asks.getByRole('button', { name: 'End', exact: true }).click();
  await p.getByText('1 session is ended.').waitFor();
  await p.getByText('Nobody of whom that is so is connected.').waitFor();
  const ended = await other.ended;
  assert.match(ended.said, /STATUS_USER_SESSION_DELETED|NetBIOSError/);
  await p.goto(`${service.url}/journal`);
  await p
    .getByText(/end session/)
    .first()
    .waitFor();
});

test('what was asked is drawn as it goes on, of a folder and of another beside it, and a part of it is looked at', async () => {
  const p = await signedIn('keeper');
  const one = await client('isolde', 'nightlog', 25);
  await p.goto(`${service.url}/live?show=throughput&of=nightlog&beside=plates&since=10min`);
  const nightlog = p.getByRole('region', { name: 'nightlog' });
  await nightlog.getByRole('figure', { name: 'Requests by the second' }).waitFor();
  await nightlog.getByText(/In all [\d,]+ requests/).waitFor();
  await p.getByRole('region', { name: 'plates' }).getByText('Nothing was asked at the wire in that time.').waitFor();
  await accessible(p, 'throughput');
  await one.ended;
  const chart = nightlog
    .getByRole('figure', { name: 'Bytes of files by the second' })
    .locator('svg.recharts-surface')
    .first();
  const box = await chart.boundingBox();
  await p.mouse.move(box.x + box.width * 0.5, box.y + 40);
  await p.mouse.down();
  await p.mouse.move(box.x + box.width * 0.7, box.y + 40, { steps: 5 });
  await p.mouse.move(box.x + box.width * 0.9, box.y + 40, { steps: 5 });
  await p.mouse.up();
  await p.waitForURL(/until=/);
  await p.getByRole('button', { name: 'Up to now again' }).click();
  await p.waitForURL((u) => !u.searchParams.has('until'));
  const file = p.waitForEvent('download');
  await p.getByRole('link', { name: 'As CSV' }).click();
  assert.match((await file).suggestedFilename(), /\.csv$/);
  await p.goto(`${service.url}/overview`);
  await p.getByRole('region', { name: 'At the wire' }).getByRole('figure').waitFor();
  await accessible(p, 'the overview, with what was asked');
});

test('what was refused at the wire is there with why, for an auditor too, who ends nothing', async () => {
  const refused = spawn('/usr/bin/python3', [busy, service.smb, 'orla', 'nightlog', '1'], { stdio: 'ignore' });
  await new Promise((resolve) => refused.once('exit', resolve));
  const one = await client('isolde', 'nightlog', 60);
  const p = await signedIn('auditor');
  await p.goto(`${service.url}/live`);
  await p.getByRole('row', { name: /isolde/ }).waitFor();
  assert.equal(await p.getByRole('button', { name: /^End/ }).count(), 0);
  await p.getByRole('tab', { name: 'Refused at the wire' }).click();
  const row = p.getByRole('row', { name: /orla.*nightlog.*entry/ }).first();
  await row.waitFor();
  await accessible(p, 'live: what was refused');
  await row.getByRole('link', { name: 'Ask why' }).click();
  await p.getByText('Refused at the entry gate').waitFor();
  one.child.kill();
});

test('the service itself: a backup taken along, one more kept, the log, the machine and the way in', async () => {
  const p = await signedIn('keeper');
  await p.goto(`${service.url}/service`);
  await p.getByText('Fingerprint (SHA-256)').waitFor();
  await p
    .getByRole('cell', { name: /^amber-/ })
    .first()
    .waitFor();
  await p.getByLabel('Passphrase').fill('three pale moons');
  const file = p.waitForEvent('download');
  await p.getByRole('button', { name: 'Make one, and take it along' }).click();
  const come = await file;
  assert.match(come.suggestedFilename(), /^amber-.*\.tar\.gz\.age$/);
  assert.equal(
    readFileSync(await come.path())
      .subarray(0, 21)
      .toString(),
    'age-encryption.org/v1',
  );
  await p.getByRole('button', { name: 'Write one now' }).click();
  await p.getByText(/^Written: amber-/).waitFor();

  await p.getByLabel('Log from').selectOption('debug');
  await p.getByText('Logged from debug on.').waitFor();
  await p.getByRole('row', { name: /log-level.*debug.*asked for/ }).waitFor();
  await p.getByRole('button', { name: 'Read again' }).click();
  await p.getByText('The settings have been read again.').waitFor();
  await p.getByRole('row', { name: /log-level.*info/ }).waitFor();

  await p.getByRole('button', { name: 'Look at this machine' }).click();
  await p.getByRole('row', { name: /openat2.*well/ }).waitFor();
  await p.getByLabel('Client, by address or name').fill('127.0.0.1');
  await p.getByLabel('Into the folder').selectOption('plates');
  await p.getByRole('button', { name: 'Go the way in' }).click();
  await p.getByRole('row', { name: /NFS: MOUNT of \/plates.*is granted/ }).waitFor();
  await accessible(p, 'the service');

  const other = await signedIn('auditor');
  await other.goto(`${service.url}/service`);
  await other.getByText('Fingerprint (SHA-256)').waitFor();
  assert.equal(await other.getByRole('button', { name: /Write one|Make one|Read again|Look at/ }).count(), 0);
});
