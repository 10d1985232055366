// Holds the API's document to the rules of a well-known linter, all of them as errors.
import { createConfig, lint } from '@redocly/openapi-core';

const config = await createConfig({ extends: ['recommended-strict'] });
const problems = await lint({ ref: new URL('openapi.json', import.meta.url).pathname, config });
for (const p of problems) {
  console.error(`openapi.json${p.location[0].pointer}: ${p.message} (${p.ruleId})`);
}
if (problems.length > 0) {
  process.exit(1);
}
