// Takes the pictures of the console in docs/screenshots, from a fresh demo. See make screenshots.
import { spawn } from 'node:child_process';
import { mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { chromium } from 'playwright-core';

const root = join(import.meta.dirname, '../..');
const shots = join(root, 'docs/screenshots');
const state = mkdtempSync(join(tmpdir(), 'amber-shots-'));
const copies = mkdtempSync(join(tmpdir(), 'amber-copies-'));
const url = 'http://127.0.0.1:18460';
const service = spawn(
  join(root, 'bin/amber'),
  [
    'serve',
    '--demo',
    '--state',
    state,
    '--console',
    '127.0.0.1:18460',
    '--smb',
    '127.0.0.1:18450',
    '--nfs',
    '127.0.0.1:0',
    '--backup-to',
    copies,
  ],
  { stdio: ['ignore', 'pipe', 'ignore'] },
);
await new Promise((resolve) => service.stdout.once('data', resolve));
const browser = await chromium.launch({
  executablePath: '/usr/bin/chromium',
  args: [
    '--no-sandbox',
    '--disable-gpu',
    '--disable-background-networking',
    '--disable-component-update',
    '--disable-sync',
  ],
});

async function open(colorScheme) {
  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 }, colorScheme })).newPage();
  await page.goto(url);
  await page.getByLabel('User name').fill('keeper');
  return page;
}

async function enter(page) {
  await page.getByLabel('Password', { exact: true }).fill('keeper-at-larkfell');
  await page.keyboard.press('Enter');
  await page.getByRole('heading', { name: 'Overview', exact: true }).waitFor();
}

async function shot(page, name) {
  await page.waitForTimeout(500); // until fonts and transitions have settled
  await page.screenshot({ path: join(shots, `${name}.png`) });
}

try {
  const page = await open('light');
  await enter(page);
  await page.getByText('open to any host').waitFor();
  await page.getByRole('img', { name: /free of/ }).waitFor();
  await shot(page, 'overview');
  await page.goto(`${url}/folders`);
  await page.getByText('The raw archive').waitFor();
  await page.goto(`${url}/folders/new`);
  await page.getByLabel('Name', { exact: true }).fill('spectra');
  await page.getByRole('combobox', { name: 'Who changes' }).fill('observers');
  await page.getByRole('option', { name: 'observers' }).first().waitFor(); // of the list, not of a select
  await page.keyboard.press('Escape');
  await page
    .getByText(/gains spectra/)
    .first()
    .waitFor();
  await shot(page, 'new-folder');
  await page.goto(`${url}/folders/instruments`);
  await page.getByRole('button', { name: 'Add entry on instruments', exact: true }).click();
  await shot(page, 'folder');
  await page.goto(`${url}/why?user=isolde&path=instruments/firmware/bench`);
  await page.getByText('Refused at').waitFor();
  await shot(page, 'why');
  await page.goto(`${url}/folders/plates?tab=exports`);
  await page.getByLabel('Address to try on /plates').fill('192.0.2.17');
  await page.getByRole('button', { name: 'Which rule applies?' }).click();
  await page.getByText('Line 1 lets').waitFor();
  await shot(page, 'exports');
  await page.goto(`${url}/people`);
  await page.getByRole('button', { name: 'Put a list in' }).click();
  await page.getByLabel('The list').setInputFiles(join(root, 'demo/people/visiting-spring.csv'));
  await page.getByText('40 made').waitFor();
  await shot(page, 'people');
  await page.goto(`${url}/findings`);
  await page.getByText('dome1').first().waitFor();
  await shot(page, 'findings');
  await page.goto(`${url}/limits`);
  await page.getByRole('button', { name: 'bettany' }).click();
  await page.getByText('At its limit').waitFor();
  await shot(page, 'limits');
  await page.goto(`${url}/notices`);
  await page.getByText('soft limit passed').waitFor();
  await shot(page, 'notices');
  await page.goto(`${url}/matrix`);
  await page.getByRole('gridcell', { name: 'change' }).first().waitFor();
  await page.getByRole('grid').press('ArrowDown');
  await shot(page, 'matrix');
  await page.goto(`${url}/folders/instruments?tab=browse&user=isolde&in=firmware`);
  await page.getByRole('row', { name: /camera/ }).waitFor();
  await shot(page, 'browse');
  await page.goto(`${url}/folders/plates?tab=open`);
  await page.getByRole('combobox', { name: 'As', exact: true }).fill('orla');
  await page.getByRole('button', { name: 'Try it' }).click();
  await page.getByText('All of it went').waitFor();
  await page.getByText('Try it as somebody').evaluate((e) => e.scrollIntoView({ block: 'start' }));
  await page.mouse.move(0, 0);
  await shot(page, 'try');
  // The first screens side by side, as one picture.
  const wall = ['overview', 'new-folder', 'why', 'matrix', 'browse', 'journal'];
  await page.goto(`${url}/folders/instruments`);
  await page.getByRole('button', { name: 'Add entry on instruments/firmware/bench' }).click();
  await page.getByRole('combobox', { name: 'Who' }).fill('wren');
  await page.getByRole('button', { name: 'See what it does' }).click();
  await page.getByRole('button', { name: 'Let them pass as well' }).waitFor();
  await shot(page, 'preview');
  await page.getByRole('button', { name: 'Leave it' }).click();
  await page.goto(`${url}/journal`);
  await page.getByRole('row', { name: /limit/ }).first().getByRole('button', { name: /^What/ }).click();
  await page.getByRole('term').first().waitFor();
  await shot(page, 'journal');
  const wide = await (await browser.newContext({ viewport: { width: 1920, height: 830 } })).newPage();
  await wide.setContent(
    `<body style="margin:0;background:#e9e0d0;display:grid;grid-template-columns:repeat(3,1fr);gap:18px;padding:18px">${wall
      .map(
        (name) =>
          `<img style="width:100%;border-radius:8px;box-shadow:0 1px 6px #0003" src="data:image/png;base64,${readFileSync(join(shots, `${name}.png`)).toString('base64')}">`,
      )
      .join('')}</body>`,
  );
  await shot(wide, 'first-screens');
  const busy = [
    ['isolde', 'nightlog'],
    ['piran', 'nightlog'],
    ['bettany', 'plates'],
  ].map(([user, share]) => {
    const client = spawn('/usr/bin/python3', [join(root, 'test/clients/busy.py'), '18450', user, share, '75'], {
      stdio: 'inherit',
    });
    return new Promise((done) => client.once('exit', done));
  });
  await page.waitForTimeout(70_000); // until there is something to be drawn
  await page.goto(`${url}/live?show=throughput&of=nightlog&beside=plates&since=10min`);
  await page
    .getByText(/In all/)
    .nth(1)
    .waitFor();
  await shot(page, 'live');

  await page.goto(`${url}/service`);
  await page
    .getByRole('cell', { name: /^amber-/ })
    .first()
    .waitFor();
  await page.getByLabel('Client, by address or name').fill('127.0.0.1');
  await page.getByLabel('Into the folder').selectOption('plates');
  await page.getByRole('button', { name: 'Go the way in' }).click();
  await page.getByText('NFS: NULL').waitFor();
  await page.mouse.wheel(0, 240);
  await shot(page, 'service');
  await Promise.all(busy);
} finally {
  await browser.close();
  service.kill();
  rmSync(copies, { recursive: true, force: true });
  rmSync(state, { recursive: true, force: true });
}
