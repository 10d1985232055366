import { locales } from '#texts';
import { when } from './day';

/** The moment to the second, in the reader's zone and in UTC. */
const exactly = (at: string) => {
  const t = new Date(at);
  return `${t.toLocaleString(locales(), { dateStyle: 'full', timeStyle: 'long' })} – ${t.toISOString()}`;
};

/** A moment in the reader's zone, to the minute; exactly, when it is pointed at. */
export const Moment = ({ at }: { at: string }) => (
  <time dateTime={at} title={exactly(at)}>
    {when(at)}
  </time>
);
