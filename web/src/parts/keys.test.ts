import { describe, expect, it, vi } from 'vitest';
import { actionOf, combination, type KeyLine } from './keys';

const press = (key: string, values: object = {}) => ({ key, ctrlKey: false, metaKey: false, shiftKey: false, altKey: false, target: { tagName: 'BODY', closest: () => null }, ...values }) as unknown as KeyboardEvent;

describe('keys', () => {
  it('names combinations', () => {
    expect(combination(press('Z', { ctrlKey: true, shiftKey: true }))).toBe('ctrl+shift+z');
    expect(combination(press('z', { metaKey: true }))).toBe('ctrl+z');
    expect(combination(press('?', { shiftKey: true }))).toBe('?');
    expect(combination(press('Enter', { shiftKey: true }))).toBe('shift+Enter');
    expect(combination(press(' '))).toBe('space');
  });

  it('does what a line says, but not while somebody types or a button has the key', () => {
    const act = vi.fn();
    const map: KeyLine[] = [{ keys: 'Enter', words: 'x', on: { Enter: act }, leavesButtons: true }, { keys: 'J', words: 'y', on: { j: act } }];
    expect(actionOf(map, press('j'))).toBe(act);
    expect(actionOf(map, press('J', { shiftKey: true }))).toBe(act);
    expect(actionOf(map, press('Enter'))).toBe(act);
    const on = (tagName: string) => ({ target: { tagName, closest: () => null } });
    expect(actionOf(map, press('Enter', on('BUTTON')))).toBeUndefined();
    expect(actionOf(map, press('j', on('BUTTON')))).toBe(act);
    expect(actionOf(map, press('j', on('TEXTAREA')))).toBeUndefined();
    expect(actionOf(map, press('j', { altKey: true }))).toBeUndefined();
    expect(actionOf(map, press('j', { target: { tagName: 'DIV', closest: () => ({}) } }))).toBeUndefined();
  });
});
