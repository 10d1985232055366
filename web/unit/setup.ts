import { cleanup } from '@testing-library/react';
import { afterEach, vi } from 'vitest';

// What jsdom leaves out of a browser, and the parts ask for.
class Observer {
  observe() {}
  unobserve() {}
  disconnect() {}
}
Object.assign(globalThis, {
  ResizeObserver: Observer,
  IntersectionObserver: Observer,
  CSS: { escape: (text: string) => text.replace(/[^\w-]/g, (c) => `\\${c}`) },
});
Object.defineProperty(window, 'matchMedia', {
  value: (media: string) => ({ media, matches: false, addEventListener: () => {}, removeEventListener: () => {} }),
});
// A browser takes an address for what it is from the page on.
const Whole = globalThis.Request;
globalThis.Request = class extends Whole {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === 'string' ? new URL(input, location.href) : input, init);
  }
};
Element.prototype.scrollIntoView = () => {};
Element.prototype.scrollTo = () => {};

afterEach(() => {
  cleanup();
  sessionStorage.clear();
  vi.restoreAllMocks();
});
