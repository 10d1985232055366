import type { Plugin } from 'vite';

export declare const texts: () => Plugin;
export declare function catalogue(): Promise<string>;
