import { useEffect } from 'react';
import { client } from './client';

/** What is the same for as long as a page is open, whatever is changed. */
const lasting = new Set(['arrangements', 'find']);

/** How often at most what is shown is asked for anew. */
const atMostEvery = 400;

/**
 * Has what is shown be asked for anew when other records come into force, whoever changed them. It listens while the page is seen: browsers
 * have few connections for each address.
 */
export function useWatch() {
  useEffect(() => {
    let source: EventSource | undefined;
    let due: ReturnType<typeof setTimeout> | undefined;
    let lost = false;
    const again = () => {
      due ??= setTimeout(() => {
        due = undefined;
        client.invalidateQueries({
          predicate: (q) => !lasting.has(String(q.queryKey[0])) && q.queryKey[0] !== 'preview',
        });
      }, atMostEvery);
    };
    const look = () => {
      if (document.hidden) {
        source?.close();
        source = undefined;
        lost = true;
        return;
      }
      if (source) return;
      source = new EventSource('/api/v1/watch?live=true');
      source.addEventListener('moved', again);
      // Something was asked at the wire, or somebody came or went.
      source.addEventListener('stirred', () => client.invalidateQueries({ queryKey: ['live'] }));
      // What happened while nobody listened is not told: who hears something again looks at all of it.
      source.addEventListener('still', () => {
        if (lost) again();
        lost = false;
      });
      source.onerror = () => {
        lost = true;
      };
    };
    look();
    document.addEventListener('visibilitychange', look);
    return () => {
      document.removeEventListener('visibilitychange', look);
      clearTimeout(due);
      source?.close();
    };
  }, []);
}
