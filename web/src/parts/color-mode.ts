import { useSyncExternalStore } from 'react';

// Light or dark: as the system says, until somebody chooses.
type Mode = 'light' | 'dark';
const key = 'amber-color-mode';
const system = window.matchMedia('(prefers-color-scheme: dark)');
const listeners = new Set<() => void>();

function current(): Mode {
  const kept = localStorage.getItem(key);
  if (kept === 'light' || kept === 'dark') return kept;
  return system.matches ? 'dark' : 'light';
}

function apply() {
  document.documentElement.className = current();
  document.documentElement.style.colorScheme = current();
  for (const listener of listeners) listener();
}

export function startColorMode() {
  system.addEventListener('change', apply);
  apply();
}

export function useColorMode(): [Mode, () => void] {
  const mode = useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, current);
  return [
    mode,
    () => {
      localStorage.setItem(key, mode === 'dark' ? 'light' : 'dark');
      apply();
    },
  ];
}
