import type { CharacterOut } from '../api/client';

/** What all names of a skeleton begin with, up to its last separator: "hero_rig_". Shown once, not on every row. */
export function sharedStart(names: string[]): string {
  if (names.length < 3) return '';
  let start = names[0];
  for (const name of names) while (!name.startsWith(start)) start = start.slice(0, -1);
  return start.replace(/[^_:.|\-\s]*$/, '');
}

/** What was found out about the file, in one sentence. */
export function foundOut(c: CharacterOut): string {
  const unit = { '1': 'metres', '0.01': 'centimetres', '0.001': 'millimetres', '0.0254': 'inches', '0.1': 'decimetres', '0.3048': 'feet' }[String(c.units_m)] ?? `${c.units_m} m a unit`;
  const how = { metadata: 'as the file says', detected: 'found out from its size', guessed: 'a guess from its size' }[c.unit_evidence] ?? '';
  return `${unit}, ${how} · ${c.up} is up, faces ${c.facing}`;
}
