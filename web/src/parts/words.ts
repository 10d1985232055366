/** A word as a shell wants it: as it is where it can be, else in quotes. */
export const quoted = (text: string) => (/^[\w@%+=:,./-]+$/.test(text) ? text : `'${text.replaceAll("'", "'\\''")}'`);

/** The names that stand in a text, with commas or spaces between them. */
export const listed = (text: string) => text.split(/[\s,]+/).filter(Boolean);
