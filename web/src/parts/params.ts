import { useCallback } from 'react';
import { useSearchParams } from 'react-router';

/**
 * What the address asks for, and how to have it ask for something else: what is given alone is altered, and an empty text takes it away. It goes by the
 * address as it is, since what is drawn may lag behind it while somebody types.
 */
export function useParamsOf(): [URLSearchParams, (to: Record<string, string>, replace?: boolean) => void] {
  const [params, setParams] = useSearchParams();
  const alter = useCallback(
    (to: Record<string, string>, replace = false) => {
      const next = new URLSearchParams(window.location.search);
      for (const [name, value] of Object.entries(to)) value ? next.set(name, value) : next.delete(name);
      setParams(next, { replace });
    },
    [setParams],
  );
  return [params, alter];
}
