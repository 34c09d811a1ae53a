// Says what the Khronos validator finds wrong with files: `node validate-gltf.mjs FILE...` prints one JSON object by file name.
import { readFile } from 'node:fs/promises';
import { basename } from 'node:path';
import { validateBytes } from 'gltf-validator';

const out = {};
for (const path of process.argv.slice(2)) {
  const report = await validateBytes(new Uint8Array(await readFile(path)), { uri: basename(path), maxIssues: 200 });
  out[basename(path)] = {
    errors: report.issues.messages.filter((m) => m.severity === 0).map((m) => `${m.code} ${m.pointer}: ${m.message}`),
    warnings: report.issues.messages.filter((m) => m.severity === 1).map((m) => `${m.code} ${m.pointer}: ${m.message}`),
  };
}
console.log(JSON.stringify(out));
