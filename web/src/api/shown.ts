/**
 * What storage users call their files is shown, and must do nothing to the page: a character that turns the
 * writing round or does not show itself is spelled out, as \x1b or \u202e, in all that the service answers. What is
 * spelled so is spelled back in what is sent to it, so that a name that was shown can be asked about.
 */

// C0, DEL and C1; Bidi_Control; separators, marks and tags that show nothing. The service has the same list.
const hidden =
  // biome-ignore lint/suspicious/noControlCharactersInRegex: they are what is looked for
  /[\u0000-\u0008\u000b\u000c\u000e-\u001f\u007f-\u009f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069\ufeff\ufff9-\ufffb]|[\u{e0000}-\u{e007f}]/gu;
const spelledOut = /\\x([0-9a-f]{2})|\\u([0-9a-f]{4})|\\U([0-9a-f]{8})/g;

const hex = (n: number, digits: number) => n.toString(16).padStart(digits, '0');

/** Spells out what would not show itself. */
export function spelled(text: string): string {
  return text.replace(hidden, (c) => {
    const n = c.codePointAt(0) ?? 0;
    if (n < 0x80) return `\\x${hex(n, 2)}`;
    return n > 0xffff ? `\\U${hex(n, 8)}` : `\\u${hex(n, 4)}`;
  });
}

/** Spells back what spelled spelled out, and nothing else. */
export function meant(text: string): string {
  return text.replace(spelledOut, (all, x, u, U) => {
    const c = String.fromCodePoint(Number.parseInt(x ?? u ?? U, 16));
    return spelled(c) === all ? c : all;
  });
}

/** Spells out every text of a value that came as JSON. */
export function allSpelled<T>(value: T): T {
  if (typeof value === 'string') return spelled(value) as T;
  if (Array.isArray(value)) return value.map(allSpelled) as T;
  if (value === null || typeof value !== 'object') return value;
  return Object.fromEntries(Object.entries(value).map(([k, v]) => [spelled(k), allSpelled(v)])) as T;
}

/** Spells back every text of a value that goes out as JSON. */
export function allMeant<T>(value: T): T {
  if (typeof value === 'string') return meant(value) as T;
  if (Array.isArray(value)) return value.map(allMeant) as T;
  if (value === null || typeof value !== 'object') return value;
  return Object.fromEntries(Object.entries(value).map(([k, v]) => [k, allMeant(v)])) as T;
}
