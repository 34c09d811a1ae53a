import type { Body } from './pose';

const DASHES = 3;

export type Segment = { bone: number; parent: number; from: number; to: number; radius: number; side: 'left' | 'right' | 'middle' };

/** What is drawn between joints: left bones solid, right bones in dashes, so that sides differ without colour. */
export function segmentsOf(body: Body): Segment[] {
  const out: Segment[] = [];
  body.bones.forEach((name, b) => {
    const p = body.parents[b];
    if (p < 0) return;
    const side = name.startsWith('left') ? 'left' : name.startsWith('right') ? 'right' : 'middle';
    const finger = /Thumb|Index|Middle|Ring|Little/.test(name);
    const radius = finger ? 0.006 : /Leg|Foot|hips|spine|chest/i.test(name) ? 0.022 : 0.018;
    if (side === 'right' && !finger) {
      for (let d = 0; d < DASHES; d += 1) out.push({ bone: b, parent: p, from: (d + 0.08) / DASHES, to: (d + 0.78) / DASHES, radius, side });
    } else out.push({ bone: b, parent: p, from: 0, to: 1, radius, side });
  });
  return out;
}
