import { config } from 'zod';

// What a form takes is read as it is, and never compiled: the console runs no code that it makes.
config({ jitless: true });

export { z } from 'zod';
