import { readdirSync, readFileSync, statSync } from 'node:fs';
import { dirname, join, relative, resolve } from 'node:path';
import { describe, expect, it } from 'vitest';

/** Every folder may use those above it in this list, never one below or itself in a circle. */
const LAYERS = [['api'], ['time', 'optics'], ['parts'], ['lanes'], ['view'], ['queries'], ['bench', 'stage'], ['places']];
const ROOT = resolve(__dirname);

function files(folder: string): string[] {
  return readdirSync(folder).flatMap((name) => {
    const path = join(folder, name);
    return statSync(path).isDirectory() ? files(path) : /\.tsx?$/.test(name) && !name.includes('.test.') ? [path] : [];
  });
}

describe('the web sources', () => {
  const level = new Map(LAYERS.flatMap((names, i) => names.map((name) => [name, i] as const)));

  it('are all in a folder that has its place', () => {
    const folders = readdirSync(ROOT).filter((name) => statSync(join(ROOT, name)).isDirectory());
    expect(folders.sort()).toEqual([...level.keys()].sort());
  });

  it('use only what lies above them', () => {
    const wrong = files(ROOT).flatMap((path) => {
      const mine = relative(ROOT, path).split('/');
      if (mine.length < 2) return [];
      return [...readFileSync(path, 'utf8').matchAll(/from '(\.[^']+)'/g)]
        .map((m) => relative(ROOT, resolve(dirname(path), m[1])).split('/'))
        .filter((to) => to.length > 1 && to[0] !== mine[0] && level.get(to[0])! >= level.get(mine[0])!)
        .map((to) => `${mine.join('/')} uses ${to.join('/')}`);
    });
    expect(wrong).toEqual([]);
  });
});
