import { useState } from 'react';
import styled from 'styled-components';

const Bar = styled.div<{ $across: boolean }>`
  flex: none;
  background: ${(p) => p.theme.hairline};
  ${(p) => (p.$across ? 'height: 5px; cursor: row-resize;' : 'width: 5px; cursor: col-resize;')}
  &:hover {
    background: ${(p) => p.theme.quiet};
  }
`;

/** A remembered size and the bar that changes it, by pointer or arrow keys. */
export function useSplit(name: string, initial: number, low: number, high: number) {
  const key = `otrevo-split-${name}`;
  const [size, setSize] = useState(() => Number(localStorage.getItem(key)) || initial);
  const change = (next: number) => {
    const kept = Math.min(high, Math.max(low, next));
    setSize(kept);
    localStorage.setItem(key, String(kept));
  };
  return { size, change };
}

export function Splitter({ across, size, onChange, label }: { across: boolean; size: number; onChange: (size: number) => void; label: string }) {
  const down = (e: React.PointerEvent) => {
    e.preventDefault();
    const start = across ? e.clientY : e.clientX;
    const move = (m: PointerEvent) => onChange(size + start - (across ? m.clientY : m.clientX));
    const up = () => {
      window.removeEventListener('pointermove', move);
      window.removeEventListener('pointerup', up);
    };
    window.addEventListener('pointermove', move);
    window.addEventListener('pointerup', up);
  };
  return (
    <Bar
      $across={across}
      role="separator"
      tabIndex={0}
      aria-label={label}
      aria-orientation={across ? 'horizontal' : 'vertical'}
      aria-valuenow={size}
      onPointerDown={down}
      onKeyDown={(e) => {
        if (e.key === 'ArrowUp' || e.key === 'ArrowLeft') onChange(size + 20);
        else if (e.key === 'ArrowDown' || e.key === 'ArrowRight') onChange(size - 20);
        else return;
        e.preventDefault();
        e.stopPropagation();
      }}
    />
  );
}
