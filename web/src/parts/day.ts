import { locales } from '#texts';
/** The last day of what ends at a moment: the day before, where that is midnight. */
export const lastDay = (ends: string) => new Date(new Date(ends).getTime() - 1).toLocaleDateString(locales());

/** The last day of what ends at a moment, as a date is entered. */
export const enteredDay = (ends: string) => {
  const d = new Date(new Date(ends).getTime() - 1);
  const two = (n: number) => String(n).padStart(2, '0');
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())}`;
};

/** The moment at which what has a last day ends: the midnight after it. */
export const afterLastDay = (day: string) => {
  const [y, m, d] = day.split('-').map(Number);
  return new Date(y ?? 0, (m ?? 1) - 1, (d ?? 1) + 1).toISOString();
};

/** A moment, to the minute. */
export const when = (at: string) => new Date(at).toLocaleString(locales(), { dateStyle: 'medium', timeStyle: 'short' });
