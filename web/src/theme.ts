import { createSystem, defaultConfig, defineConfig } from '@chakra-ui/react';

// Warm paper by day, lamplight by night. Amber is for what can be done; green and
// brick are kept for verdicts, and never the only sign of one.
const config = defineConfig({
  globalCss: {
    'html, body': { bg: 'ground', color: 'ink', fontFeatureSettings: '"tnum"' },
    ':focus-visible': { outline: '2px solid {colors.accent}', outlineOffset: '2px' },
    '::selection': { bg: 'accent.soft' },
    // A name that is written from right to left turns nothing round beside it.
    'a, b, code, button, td span': { unicodeBidi: 'isolate' },
    // For who asks for more contrast, what is faint is not, and lines are seen.
    'html, html.light, html.dark': {
      '@media (prefers-contrast: more)': {
        '--chakra-colors-faint': 'var(--chakra-colors-ink)',
        '--chakra-colors-line': 'var(--chakra-colors-ink)',
        '--chakra-colors-ground': 'var(--chakra-colors-sheet)',
      },
    },
    '*, *::before, *::after': {
      '@media (prefers-reduced-motion: reduce)': {
        animationDuration: '0.01ms !important',
        transitionDuration: '0.01ms !important',
        scrollBehavior: 'auto !important',
      },
    },
  },
  theme: {
    tokens: {
      fonts: {
        body: { value: "'Figtree Variable', system-ui, sans-serif" },
        heading: { value: "'Figtree Variable', system-ui, sans-serif" },
        mono: { value: "ui-monospace, 'DejaVu Sans Mono', Menlo, monospace" },
      },
    },
    semanticTokens: {
      colors: {
        // Chakra's own names, where its parts use them.
        gray: {
          focusRing: { value: '{colors.accent}' },
          solid: { value: '{colors.accent}' },
          contrast: { value: '{colors.accent.on}' },
        },
        bg: { DEFAULT: { value: '{colors.sheet}' }, panel: { value: '{colors.sheet}' } },
        fg: {
          DEFAULT: { value: '{colors.ink}' },
          muted: { value: '{colors.faint}' },
          error: { value: '{colors.shut}' },
        },
        border: {
          DEFAULT: { value: '{colors.line}' },
          emphasized: { value: '{colors.line}' },
          error: { value: '{colors.shut}' },
        },
        ground: { value: { base: '#f7f3ec', _dark: '#17140f' } },
        sheet: { value: { base: '#fffdf9', _dark: '#201c16' } },
        sunk: { value: { base: '#efe8dc', _dark: '#2a251d' } },
        line: { value: { base: '#ddd3c3', _dark: '#3a3329' } },
        ink: { value: { base: '#231c14', _dark: '#f1eadf' } },
        faint: { value: { base: '#6a5f51', _dark: '#b0a493' } },
        accent: {
          DEFAULT: { value: { base: '#96520a', _dark: '#f2a93b' } },
          soft: { value: { base: '#f6e3c4', _dark: '#473313' } },
          on: { value: { base: '#fffdf9', _dark: '#231a0b' } },
        },
        open: {
          DEFAULT: { value: { base: '#256343', _dark: '#7fcf9f' } },
          soft: { value: { base: '#dcefe2', _dark: '#1d3a2a' } },
        },
        shut: {
          DEFAULT: { value: { base: '#a3311f', _dark: '#ff9c88' } },
          soft: { value: { base: '#f9dfd8', _dark: '#4a2019' } },
        },
      },
    },
  },
});

export const system = createSystem(defaultConfig, config);
