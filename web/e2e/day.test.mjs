// The administrator's day in the console: looking into folders, writing rules where they belong, trying what the wire does, looking back, by mouse and by keys.
import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { accessible, launch, patience, start, stop, tidy } from './around.mjs';

let service;
let browser;
let url;

before(async () => {
  browser = await launch();
  service = await start('--demo');
  url = service.url;
});

after(async () => {
  await browser?.close();
  if (service) await stop(service);
  tidy();
});

async function open(user = 'keeper', options = {}) {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, ...options });
  context.setDefaultTimeout(patience);
  const p = await context.newPage();
  p.on('pageerror', (e) => {
    throw e;
  });
  await p.goto(url);
  await p.getByLabel('User name').fill(user);
  await p.getByLabel('Password', { exact: true }).fill(`${user}-at-larkfell`);
  await p.keyboard.press('Enter');
  await p.getByRole('button', { name: 'Sign out' }).waitFor();
  return p;
}

/** Takes back what has just been said to be done. */
const takeBack = (p, said) =>
  p
    .locator('[data-scope=toast][data-part=root]', { hasText: said })
    .getByRole('button', { name: 'Take it back' })
    .click();

const asks = (p) => p.getByRole('alertdialog');

test('a directory is browsed with somebody’s levels, and a rule is written where it belongs', async () => {
  const p = await open();
  await p.goto(`${url}/folders/instruments?tab=browse`);
  await p.getByRole('combobox', { name: 'Levels of' }).fill('isolde');
  await p.getByRole('button', { name: 'firmware', exact: true }).click();
  await p.getByRole('row', { name: /camera-3.2.hex wren engineers 0640 .* nothing/ }).waitFor();
  assert.match(p.url(), /in=firmware/);
  await accessible(p, 'browsing');
  await p.getByRole('button', { name: 'bench', exact: true }).click();
  await p
    .getByText('Nothing is in it.')
    .or(p.getByRole('table', { name: 'What is in instruments/firmware/bench' }))
    .waitFor();
  await p.goBack();
  await p.getByRole('row', { name: /camera/ }).waitFor();
  await p.getByRole('button', { name: 'Add entry on instruments/firmware' }).click();
  await p.getByRole('combobox', { name: 'Who' }).fill('isolde');
  await p.getByRole('button', { name: 'See what it does' }).click();
  await asks(p).getByText('1 person gains').waitFor();
  await asks(p).getByRole('button', { name: 'Add entry' }).click();
  await p.getByRole('row', { name: /camera-3.2.hex .* read/ }).waitFor();
  await p.getByRole('button', { name: 'Give camera-3.2.hex to somebody' }).click();
  const give = p.getByRole('region', { name: 'Give instruments/firmware/camera-3.2.hex' });
  await give.getByRole('combobox', { name: 'Owner' }).fill('tomasz');
  await give.getByRole('button', { name: 'See what it does' }).click();
  await asks(p).getByRole('button', { name: 'Give it' }).click();
  await p.getByRole('row', { name: /camera-3.2.hex tomasz/ }).waitFor();
});

test('entries: for several at once, by exact rights, changed, as on another path, and as text', async () => {
  const p = await open();
  await p.goto(`${url}/folders/visitors`);
  const add = p.getByRole('button', { name: 'Add entry on visitors', exact: true });
  await add.click();
  await p.getByRole('combobox', { name: 'Who' }).fill('tomasz, bettany');
  await p.getByLabel('Level', { exact: true }).selectOption('change');
  await p.getByRole('button', { name: 'See what it does' }).click();
  await asks(p).getByText('2 people gain').waitFor();
  await asks(p).getByRole('button', { name: 'Add entry' }).click();
  await p.getByRole('row', { name: /allow tomasz.*change/ }).waitFor();
  await p.getByRole('row', { name: /allow bettany.*change/ }).waitFor();
  await p.getByRole('button', { name: 'Change: allow tomasz change' }).click();
  const form = p.getByRole('form', { name: 'Change the entry of tomasz on visitors' });
  await form.getByLabel('Level', { exact: true }).selectOption('rights');
  await form.getByText('read_data', { exact: true }).click();
  await form.getByText('execute', { exact: true }).click();
  await accessible(p, 'an entry by exact rights');
  await form.getByRole('button', { name: 'See what it does' }).click();
  await asks(p).getByText('1 person loses').waitFor();
  await asks(p).getByRole('button', { name: 'Change it' }).click();
  await p.getByRole('row', { name: /tomasz.*(read_data|list_directory)/ }).waitFor();

  const more = async (item) => {
    await p.getByRole('button', { name: 'More for visitors' }).click();
    await p.getByRole('menuitem', { name: item }).click();
  };
  await more('As text, out and in');
  const text = p.getByLabel('Entries of visitors as text');
  await p.getByRole('button', { name: 'What is written now' }).click();
  await p.waitForFunction(() => document.querySelector('textarea')?.value.includes('bettany'));
  const was = await text.inputValue();
  await text.fill('nonsense');
  await p.getByRole('button', { name: 'See what it does' }).click();
  await asks(p)
    .getByText(/nonsense|line 1/)
    .first()
    .waitFor();
  await asks(p).getByRole('button', { name: 'Leave it' }).click();
  await text.fill(
    was
      .split('\n')
      .filter((l) => !l.includes('bettany'))
      .join('\n'),
  );
  await p.getByRole('button', { name: 'See what it does' }).click();
  await asks(p).getByText('1 person loses').waitFor();
  await asks(p).getByRole('button', { name: 'Write it' }).click();
  await p.getByRole('row', { name: /allow bettany/ }).waitFor({ state: 'detached' });

  await more('As on another path');
  await p.getByRole('combobox', { name: 'As on' }).fill('plates');
  await p.getByRole('button', { name: 'See what it does' }).click();
  await asks(p).getByRole('button', { name: 'Make it so' }).click();
  await p.getByRole('row', { name: /allow archive/ }).waitFor();
  await takeBack(p, 'visitors has what holds on plates.');
  await p.getByRole('row', { name: /allow archive/ }).waitFor({ state: 'detached' });
});

test('the wire is tried as somebody, and does what the audit says; how to open it comes as a code as well', async () => {
  const p = await open();
  await p.goto(`${url}/folders/plates?tab=open`);
  await p.getByRole('combobox', { name: 'As', exact: true }).fill('bettany');
  await p.getByRole('button', { name: 'Try it' }).click();
  await p.getByText('All of it went as the audit says.').waitFor();
  const smb = p.getByRole('region', { name: 'Over SMB' });
  for (const does of ['signs in', 'lists the directory', 'makes a file there', 'fills it', 'reads it back'])
    await smb.getByText(`${does}: done`).waitFor();
  await p.getByRole('region', { name: 'Over NFS' }).getByText('as if from 192.0.2.17').waitFor();
  await p.getByRole('combobox', { name: 'As', exact: true }).fill('orla');
  await p.getByRole('button', { name: 'Try it' }).click();
  await smb.getByText('opens the share plates: access denied').waitFor();
  await smb.getByRole('link', { name: 'why' }).click();
  await p.getByRole('heading', { name: 'Refused at the entry gate' }).waitFor();
  await p.goBack();
  await p
    .getByRole('button', { name: /For a phone or a tablet/ })
    .first()
    .click();
  await p.getByRole('img', { name: /QR code of smb:/ }).waitFor();
  await accessible(p, 'a live try');
});

test('why, as if something were otherwise and as it was; and nothing is changed by asking', async () => {
  const p = await open();
  await p.goto(`${url}/why?user=orla&path=nightlog`);
  await p.getByRole('heading', { name: 'Refused at the entry gate' }).waitFor();
  await p.getByLabel('Which').fill('observers');
  await p.getByRole('button', { name: 'Suppose it' }).click();
  await p.getByRole('heading', { name: 'Allowed' }).waitFor();
  await p.getByText('As if they were in the group observers. Nothing is changed.').waitFor();
  await accessible(p, 'why, as if');
  await p.getByRole('button', { name: /they were in the group observers ×/ }).click();
  await p.getByRole('heading', { name: 'Refused at the entry gate' }).waitFor();
  await p.getByLabel('as of').fill('1999-01-01T00:00');
  await p.getByRole('button', { name: 'Ask' }).click();
  await p.getByText(/the journal begins/).waitFor();
});

test('what another changes is seen without asking again, and the past is looked at with nothing to change', async () => {
  const [p, q] = [await open(), await open()];
  await p.goto(`${url}/groups`);
  await p.getByText('gid 3001').first().waitFor();
  await q.goto(`${url}/groups`);
  await q.getByRole('button', { name: 'Add a group' }).click();
  await q.getByLabel('Name', { exact: true }).first().fill('spectroscopists');
  await q.getByRole('button', { name: 'Add it' }).click();
  await asks(q).getByRole('button', { name: 'Add it' }).click();
  await p.getByRole('link', { name: 'spectroscopists' }).waitFor();
  await p.goto(`${url}/journal`);
  await p
    .getByRole('row', { name: /observers|add|make/ })
    .nth(2)
    .getByRole('button', { name: /As of then/ })
    .click();
  const banner = p.getByRole('status').filter({ hasText: 'As of' });
  await banner.waitFor();
  await p.getByRole('navigation', { name: 'Pages' }).getByRole('link', { name: 'Groups' }).click();
  await p.getByText('gid 3001').first().waitFor();
  assert.equal(await p.getByRole('link', { name: 'spectroscopists' }).count(), 0, 'it was not there then');
  assert.equal(
    await p.getByRole('button', { name: 'Add a group' }).count(),
    0,
    'nothing is offered that cannot be done',
  );
  await accessible(p, 'the past');
  await banner.getByRole('button', { name: 'Back to now' }).click();
  await p.getByRole('link', { name: 'spectroscopists' }).waitFor();
  await p.getByRole('button', { name: 'Add a group' }).waitFor();
  await p.goto(`${url}/folders?asOf=2026-01-01T00:00:00Z`);
  await p.getByText(/the journal begins/).waitFor();
});

/** Presses Tab until something that is called so has the focus. */
async function tabTo(p, name, most = 80) {
  for (let i = 0; i < most; i++) {
    await p.keyboard.press('Tab');
    const at = await p.evaluate(() => {
      const e = document.activeElement;
      return e?.getAttribute('aria-label') || e?.labels?.[0]?.textContent || e?.textContent || '';
    });
    if (name.test(at.trim())) return;
  }
  assert.fail(`nothing called ${name} is come to by Tab`);
}

test('by keyboard alone: from signing in to an entry that is written and taken back', async () => {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
  context.setDefaultTimeout(patience);
  const p = await context.newPage();
  await p.goto(url);
  await p.getByLabel('User name').waitFor();
  await tabTo(p, /^User name/);
  await p.keyboard.type('keeper');
  await tabTo(p, /^Password/);
  await p.keyboard.type('keeper-at-larkfell');
  await p.keyboard.press('Enter');
  await p.getByRole('heading', { name: 'Overview', exact: true }).waitFor();
  await p.keyboard.press('?');
  await p.getByRole('dialog', { name: 'Keys' }).getByText('make a folder').waitFor();
  await accessible(p, 'the keys');
  await p.keyboard.press('Escape');
  await p.getByRole('dialog').waitFor({ state: 'detached' });
  await p.keyboard.press('g');
  await p.keyboard.press('m');
  await p.getByRole('heading', { name: 'Matrix' }).waitFor();
  await p.keyboard.press('Control+k');
  await p.getByRole('combobox', { name: 'Go to' }).waitFor();
  await p.keyboard.type('scrat', { delay: 30 });
  await p.getByRole('option', { name: /scratch/ }).waitFor();
  await p.keyboard.press('Enter');
  await p.getByRole('heading', { name: 'scratch' }).waitFor();
  await p.goto(`${url}/folders/personal`);
  await p.getByRole('button', { name: 'Add entry on personal', exact: true }).waitFor();
  await tabTo(p, /^Add entry on personal$/);
  await p.keyboard.press('Enter');
  await p.getByRole('combobox', { name: 'Who' }).waitFor();
  await p.keyboard.type('orla', { delay: 30 });
  await tabTo(p, /^See what it does$/);
  await p.keyboard.press('Enter');
  await asks(p).getByText('1 person gains').waitFor();
  await tabTo(p, /^Add entry$/);
  await p.keyboard.press('Enter');
  await p.getByRole('row', { name: /allow orla.*read/ }).waitFor();
  await tabTo(p, /^Remove: allow orla read$/);
  await p.keyboard.press('Enter');
  await asks(p).getByText('1 person loses').waitFor();
  await p.keyboard.press('Escape');
  await asks(p).waitFor({ state: 'detached' });
  assert.match(
    await p.evaluate(() => document.activeElement?.getAttribute('aria-label') ?? ''),
    /Remove: allow orla read/,
    'the focus is where it was',
  );
  await p.keyboard.press('Enter');
  await asks(p).getByText('1 person loses').waitFor();
  await tabTo(p, /^Remove$/);
  await p.keyboard.press('Enter');
  await p.getByRole('row', { name: /allow orla/ }).waitFor({ state: 'detached' });
});

const everywhere = [
  'overview',
  'folders',
  'folders/plates',
  'folders/plates?tab=everybody',
  'folders/plates?tab=shares',
  'folders/plates?tab=history',
  'folders/plates?tab=settings',
  'folders/scratch?tab=settings',
  'folders/new',
  'volumes',
  'publishing',
  'hosts',
  'people',
  'people/orla',
  'groups',
  'groups/observers',
  'limits',
  'notices',
  'why?user=orla&path=nightlog',
  'who?path=plates',
  'matrix',
  'findings',
  'reviews',
  'journal',
  'settings',
  'account',
];

for (const colorScheme of ['light', 'dark'])
  test(`every page, in the ${colorScheme}: nothing is in the way of anybody, and it fits a phone`, async () => {
    const p = await open('keeper', { colorScheme });
    for (const where of everywhere) {
      await p.goto(`${url}/${where}`);
      await p.getByRole('heading', { level: 1 }).waitFor();
      await accessible(p, where);
      if (colorScheme === 'dark') continue;
      await p.setViewportSize({ width: 390, height: 800 });
      await p.waitForTimeout(150);
      const over = await p.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth);
      assert.ok(over <= 1, `${where} is ${over} pixels wider than a phone`);
      await p.setViewportSize({ width: 1280, height: 800 });
    }
  });

test('each role finds its pages, and no page that it has is broken', async () => {
  for (const user of ['auditor', 'bettany']) {
    const p = await open(user);
    const links = await p.getByRole('navigation', { name: 'Pages' }).getByRole('link').all();
    const to = await Promise.all(links.map((l) => l.getAttribute('href')));
    assert.ok(user === 'auditor' ? to.length > 12 : to.length === 2, `${user}: ${to}`);
    for (const where of to) {
      await p.goto(url + where);
      await p.getByRole('heading', { level: 1 }).waitFor();
      await p.waitForTimeout(300);
      assert.equal(
        await p.getByText(/may look and not change|This page broke|Forbidden/).count(),
        0,
        `${user} at ${where}`,
      );
    }
    if (user === 'bettany') {
      await p.setViewportSize({ width: 390, height: 844 });
      await p.goto(`${url}/account`);
      await p.getByRole('region', { name: 'Your folders' }).getByText('plates', { exact: true }).waitFor();
      await p.getByRole('button', { name: /How to open it.*plates/ }).click();
      await p
        .getByText(/username=bettany/)
        .first()
        .waitFor();
      await p.getByRole('region', { name: 'What you have stored' }).waitFor();
      await accessible(p, 'my page');
    }
  }
});

test('the overview of the demo, from its address to what needs a hand', async (t) => {
  const p = await open();
  const took = [];
  for (let i = 0; i < 5; i++) {
    const began = performance.now();
    await p.goto(`${url}/overview`);
    await p.getByRole('region', { name: 'Needs a hand' }).getByText('Mend it').first().waitFor();
    took.push(performance.now() - began);
  }
  took.sort((a, b) => a - b);
  t.diagnostic(`the overview: median ${took[2].toFixed(0)} ms, slowest ${took[4].toFixed(0)} ms; the aim is 1000 ms`);
  assert.ok(took[2] < 20_000);
});

test('the settings of a group, a share’s own entries, a folder’s name and a volume’s counts', async () => {
  const p = await open();
  await p.goto(`${url}/groups/visitors`);
  await p.getByLabel('What it is for').fill('Those who come for a season');
  await p.getByRole('button', { name: 'See what it does' }).click();
  await asks(p).getByRole('button', { name: 'Change it' }).click();
  await p.getByText('Group visitors is changed.').waitFor();
  await p.goto(`${url}/folders/plates?tab=shares`);
  await p.getByRole('button', { name: 'Entry of share plates' }).click();
  await p.getByRole('combobox', { name: 'Who' }).fill('archive');
  await p.getByRole('button', { name: 'See what it does' }).click();
  await asks(p).getByText(/lose/).first().waitFor();
  await asks(p).getByRole('button', { name: 'Add entry' }).click();
  await p.getByLabel('Level of archive through plates').waitFor();
  await p.getByRole('button', { name: 'Remove: allow archive through plates' }).click();
  await asks(p).getByRole('button', { name: 'Remove' }).click();
  await p.getByLabel('Level of archive through plates').waitFor({ state: 'detached' });
  await p.goto(`${url}/folders/visitors?tab=settings`);
  await p.getByLabel('Name', { exact: true }).fill('guests');
  await p.getByRole('button', { name: 'See what it does' }).first().click();
  await asks(p).getByRole('button', { name: 'Change it' }).click();
  await p.getByRole('heading', { name: 'guests' }).waitFor();
  await p.goto(`${url}/volumes`);
  await p.getByRole('button', { name: /How far it is counted.*summit/ }).click();
  await p.getByRole('row', { name: /guests.*counted/ }).waitFor();
});
