/** The last day of what ends at a moment: the day before, where that is midnight. */
export const lastDay = (ends: string) => new Date(new Date(ends).getTime() - 1).toLocaleDateString();
