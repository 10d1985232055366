import { Box } from '@chakra-ui/react';
import { type ReactNode, useEffect, useRef, useState } from 'react';

const step = 30;

/** Draws some of many, and more of them as the end of those is come to; upTo is one that has to be there from the first. */
export function AsSeen<T>({ of, draw, upTo = 0 }: { of: T[]; draw: (one: T) => ReactNode; upTo?: number }) {
  const [most, setMost] = useState(step);
  const end = useRef<HTMLDivElement>(null);
  const shown = Math.max(most, upTo + 1);
  useEffect(() => {
    if (!end.current || shown >= of.length) return;
    const watch = new IntersectionObserver((seen) => seen.some((s) => s.isIntersecting) && setMost(shown + step), {
      rootMargin: '600px',
    });
    watch.observe(end.current);
    return () => watch.disconnect();
  }, [shown, of.length]);
  return (
    <>
      {of.slice(0, shown).map(draw)}
      {shown < of.length && <Box ref={end} h="1px" aria-hidden />}
    </>
  );
}
