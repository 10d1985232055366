import { I18n, type MessageDescriptor, type MessageOptions } from '@lingui/core';
import { compileMessage } from '@lingui/message-utils/compileMessage';
import { TransNoContext, type TransProps } from '@lingui/react/server';

/** The languages that there are besides English, which stands in the pages themselves: one catalogue for each. */
const others = import.meta.glob<{ default: Record<string, string> }>(['./*.po', '!./en.po']);
export const languages = ['en', ...Object.keys(others).map((file) => file.slice('./'.length, -'.po'.length))].sort();

// The library turns what looks like \x1b or \u202e into that character, in what is filled in as well. Names are spelled
// so that such characters show: the backslash is spelled for the library, which gives back what was meant.
const kept = (value: unknown) =>
  typeof value === 'string' ? value.replace(/\\(?=u[\da-f]{4}|x[\da-f]{2})/gi, '\\u005c') : value;

const mapped = (values: Record<string, unknown>, by: (value: unknown) => unknown) =>
  Object.fromEntries(Object.entries(values).map(([name, value]) => [name, by(value)]));

/** All that is said in the console goes through here: the texts, with what is filled in left as it is. */
class Texts extends I18n {
  override _(text: MessageDescriptor): string;
  override _(id: string, values?: Record<string, unknown>, options?: MessageOptions): string;
  override _(id: string | MessageDescriptor, values?: Record<string, unknown>, options?: MessageOptions): string {
    const all = typeof id === 'string' ? { id, values, ...options } : id;
    return super._({ ...all, values: all.values && mapped(all.values, kept) });
  }
}

export const i18n = new Texts({});
const compiled = new Map<string, ReturnType<typeof compileMessage>>();
i18n.setMessagesCompiler((message) => {
  if (!/[{}'<]/.test(message)) return [message]; // there is nothing in it to be read
  const known = compiled.get(message) ?? compileMessage(message);
  compiled.set(message, known);
  return known;
});

/** How the reader's region writes days and numbers, in the language that is shown. */
const regional = (language: string) => [...navigator.languages.filter((l) => l.split('-')[0] === language), language];
const use = (language: string, messages: Record<string, string>) =>
  i18n.loadAndActivate({ locale: language, locales: regional(language), messages });

/** For what writes days: Date's own methods. */
export const locales = () => i18n.locales as string[];

/** A text with elements in it. What is filled in is shown as it is, tags that stand in it too. */
export function Trans({ values, ...props }: TransProps) {
  const whole = values && mapped(values, (value) => (typeof value === 'string' ? [value] : value));
  return <TransNoContext {...props} values={whole} lingui={{ i18n }} />;
}

/** The first of the languages that a reader asks for and there is; English when there is none. */
export function chosenFrom(asked: readonly string[], there: readonly string[]) {
  for (const language of asked)
    for (const is of [language, language.split('-')[0] ?? '']) if (there.includes(is)) return is;
  return 'en';
}

/** Brings the reader's language. Where it does not come, English is shown. */
async function start() {
  const language = chosenFrom(navigator.languages, languages);
  use('en', {});
  await others[`./${language}.po`]?.().then(
    (catalogue) => use(language, catalogue.default),
    () => {},
  );
  document.documentElement.lang = i18n.locale;
  document.documentElement.dir = textDirection(i18n.locale);
}

const textDirection = (language: string) =>
  ['ar', 'fa', 'he', 'ur', 'yi'].includes(language.split('-')[0] ?? '') ? 'rtl' : 'ltr';

// What says something imports this module, and waits for it.
await start();
