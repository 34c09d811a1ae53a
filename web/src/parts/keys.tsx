import { useEffect, useRef } from 'react';
import styled from 'styled-components';

/** Some keys that belong together: how they are printed, what they do in words, and what each combination does. */
export type KeyLine = {
  keys: string;
  words: string;
  on: Record<string, () => void>;
  /** Whether a button or link in focus keeps these keys to itself. */
  leavesButtons?: boolean;
};

/** "ctrl+shift+z", "shift+Enter", "space", "j": shift is named where it does not make another letter. */
export function combination(e: Pick<KeyboardEvent, 'key' | 'ctrlKey' | 'metaKey' | 'shiftKey'>): string {
  const ctrl = e.ctrlKey || e.metaKey;
  const named = e.key.length > 1 || ctrl || e.key === ' ';
  const key = e.key === ' ' ? 'space' : e.key.length === 1 ? e.key.toLowerCase() : e.key;
  return `${ctrl ? 'ctrl+' : ''}${e.shiftKey && named ? 'shift+' : ''}${key}`;
}

/** What a key does by a map of keys, or undefined: nothing while somebody types. */
export function actionOf(map: KeyLine[], e: KeyboardEvent): (() => void) | undefined {
  const target = e.target as HTMLElement;
  if (/^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) || e.altKey || target.closest('[role="listbox"], [role="dialog"]')) return undefined;
  const onButton = target.tagName === 'BUTTON' || target.tagName === 'A';
  const pressed = combination(e);
  return map.find((line) => pressed in line.on && !(line.leavesButtons && onButton))?.on[pressed];
}

/** Let a map of keys work on the whole page. */
export function useKeys(map: KeyLine[]): void {
  const newest = useRef(map);
  newest.current = map;
  useEffect(() => {
    const listen = (e: KeyboardEvent) => {
      const act = actionOf(newest.current, e);
      if (!act) return;
      act();
      e.preventDefault();
    };
    window.addEventListener('keydown', listen);
    return () => window.removeEventListener('keydown', listen);
  }, []);
}

const Lines = styled.dl`
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 6px 24px;
  margin: 12px 0;
  dt {
    font-family: ${(p) => p.theme.mono};
    font-size: 13px;
    color: ${(p) => p.theme.selection};
  }
  dd {
    margin: 0;
  }
`;

/** A map of keys as people read it. */
export function KeyList({ map }: { map: KeyLine[] }) {
  return <Lines>{map.map((line) => [<dt key={line.keys}>{line.keys}</dt>, <dd key={`${line.keys} words`}>{line.words}</dd>])}</Lines>;
}
