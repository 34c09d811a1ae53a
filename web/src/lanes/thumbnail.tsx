import type { Schemas } from '../api/client';
import { useEffect, useRef } from 'react';
import { useTheme } from 'styled-components';

/** Rows of values 0 to 1, each a letter in base 36, a dot where there is none. */
export type Picture = Schemas['PictureOut'];

/** The values of a row. */
export function valuesOf(row: string): (number | null)[] {
  return Array.from(row, (letter) => (letter === '.' ? null : parseInt(letter, 36) / 35));
}

/** A take's lanes in small: hidden markers or rigid bodies show as breaks, then suit, jaw and sound, on the same time axis. */
export function Thumbnail({ picture, width, points }: { picture: Picture; width: number; points?: [number, number] }) {
  const ref = useRef<HTMLCanvasElement>(null);
  const theme = useTheme();
  const height = 30;
  useEffect(() => {
    const canvas = ref.current;
    const g = canvas?.getContext('2d');
    if (!canvas || !g) return;
    const dpr = window.devicePixelRatio || 1;
    canvas.width = width * dpr;
    canvas.height = height * dpr;
    g.setTransform(dpr, 0, 0, dpr, 0, 0);
    g.clearRect(0, 0, width, height);
    const rows = (picture.optical ?? picture.tracker ?? []).map(valuesOf);
    const step = rows.length ? 17 / rows.length : 0;
    rows.forEach((row, r) => {
      const w = width / row.length;
      row.forEach((v, i) => {
        if (v === null || v < 0.3) return;
        g.globalAlpha = 0.25 + 0.75 * v;
        g.fillStyle = theme.marker;
        g.fillRect(i * w, r * step, w + 0.5, Math.max(step - 0.4, 0.6));
      });
    });
    g.globalAlpha = 1;
    const suit = picture.suit ? valuesOf(picture.suit) : undefined;
    if (suit) {
      const w = width / suit.length;
      g.fillStyle = theme.good;
      suit.forEach((v, i) => {
        if (v !== null && v > 0.5) g.fillRect(i * w, 18.5, w + 0.5, 2);
      });
    }
    const jaw = picture.jaw ? valuesOf(picture.jaw) : undefined;
    if (jaw) {
      g.strokeStyle = theme.right;
      g.beginPath();
      jaw.forEach((v, i) => {
        const x = (i / jaw.length) * width;
        if (v === null) return;
        const y = 25 - 5 * Math.min(1, v * 1.6);
        if (i === 0 || jaw[i - 1] === null) g.moveTo(x, y);
        else g.lineTo(x, y);
      });
      g.stroke();
    }
    const sound = picture.sound ? valuesOf(picture.sound) : undefined;
    if (sound?.length) {
      const w = width / sound.length;
      g.fillStyle = theme.text;
      sound.forEach((v, i) => {
        const h = Math.max(0.6, Math.min(1, (v ?? 0) * 2.5) * 5);
        g.fillRect(i * w, 28 - h / 2, Math.max(w * 0.6, 0.6), h);
      });
    }
    if (points) {
      g.fillStyle = theme.selection;
      for (const p of points) g.fillRect(Math.min(p * width, width - 1.5), 0, 1.5, height);
    }
  }, [picture, width, points, theme]);
  return <canvas ref={ref} style={{ width, height, display: 'block' }} aria-hidden="true" />;
}
