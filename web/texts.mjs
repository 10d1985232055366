// The console's texts: English stands in the pages, inside of what the macros mark; each is in src/texts/en.po as well,
// which is what somebody translates. node texts.mjs writes that catalogue; with --check it says whether it is current.
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { extname, join, relative } from 'node:path';
import { fileURLToPath } from 'node:url';
import { transformAsync } from '@babel/core';
import extract from '@lingui/babel-plugin-extract-messages';
import macro from '@lingui/babel-plugin-lingui-macro';
import { makeConfig } from '@lingui/conf';
import { generateMessageId } from '@lingui/message-utils/generateMessageId';
import PO from 'pofile';

const here = import.meta.dirname;
const linguiConfig = makeConfig({
  locales: ['en'],
  sourceLocale: 'en',
  runtimeConfigModule: { i18n: ['#texts', 'i18n'], Trans: ['#texts', 'Trans'] },
});

/** A module with what the macros stand for in their place. */
const expanded = (code, file, plugins = []) =>
  transformAsync(code, {
    filename: file,
    babelrc: false,
    configFile: false,
    sourceMaps: true,
    parserOpts: { plugins: ['typescript', ...(extname(file) === '.tsx' ? ['jsx'] : [])] },
    plugins: [[macro, { linguiConfig, stripMessageField: false }], ...plugins],
  });

/** For the bundler: macros, and catalogues as modules that give each text by its id. */
export const texts = () => ({
  name: 'texts',
  enforce: 'pre',
  async transform(code, id) {
    const file = id.split('?')[0];
    if (file.endsWith('.po')) {
      const all = PO.parse(code).items.filter((i) => i.msgstr[0] && !i.flags.fuzzy);
      const by = Object.fromEntries(all.map((i) => [generateMessageId(i.msgid, i.msgctxt ?? ''), i.msgstr[0]]));
      return { code: `export default ${JSON.stringify(by)}`, map: null, moduleType: 'js' };
    }
    if (!/\.tsx?$/.test(file) || !code.includes('/macro')) return null;
    const { code: is, map } = await expanded(code, file);
    return { code: is, map };
  },
});

/** The catalogue as it is to be. */
export async function catalogue() {
  const found = new Map();
  const files = readdirSync(join(here, 'src'), { recursive: true }).filter(
    (f) => /\.tsx?$/.test(f) && !f.endsWith('.gen.ts'),
  );
  for (const file of files.sort()) {
    const path = join(here, 'src', file);
    const code = readFileSync(path, 'utf8');
    if (!code.includes('/macro')) continue;
    const onMessageExtracted = (m) => {
      const known = found.get(m.id) ?? { ...m, files: new Set(), placeholders: {} };
      known.files.add(relative(here, path));
      Object.assign(known.placeholders, m.placeholders);
      found.set(m.id, known);
    };
    await expanded(code, path, [[extract, { onMessageExtracted }]]);
  }
  const po = new PO();
  po.headers = { 'Content-Type': 'text/plain; charset=utf-8', Language: 'en', 'X-Format': 'ICU MessageFormat' };
  for (const m of [...found.values()].sort((a, b) => (a.message < b.message ? -1 : 1))) {
    const item = new PO.Item();
    item.msgid = m.message;
    if (m.context) item.msgctxt = m.context;
    item.msgstr = [m.message];
    item.references = [...m.files];
    item.extractedComments = Object.entries(m.placeholders)
      .filter(([name, what]) => name !== what && !what.includes('<'))
      .map(([name, what]) => `{${name}} is ${what.replace(/\s+/g, ' ')}`);
    po.items.push(item);
  }
  return `${po.toString()}\n`;
}

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  const file = join(here, 'src/texts/en.po');
  const is = await catalogue();
  if (!process.argv.includes('--check')) writeFileSync(file, is);
  else if (readFileSync(file, 'utf8') !== is) {
    console.error('src/texts/en.po is not current: node texts.mjs writes it');
    process.exit(1);
  }
}
