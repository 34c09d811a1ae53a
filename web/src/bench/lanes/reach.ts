import { createElement } from 'react';
import { Envelope, type Point } from '../../lanes/envelope';
import type { LaneKind } from './contract';

const HEIGHT = 34;

/** How far hands and feet of the character that is looked at keep their places, over time. */
export const reachLanes: LaneKind = ({ reach, duration }) =>
  (reach?.limbs ?? []).map(({ id, words, value }) => {
    const points: Point[] = Array.isArray(value) ? value : [[0, value]];
    const most = Math.max(...points.map((p) => p[1]));
    return {
      id: `reach ${id}`, name: words, detail: most > 0 ? `${reach!.name} · angle below, place above` : `${reach!.name} · keeps its angles`, height: HEIGHT,
      content: (range) => createElement(Envelope, {
        label: `${reach!.name}: ${words}`, points, range, height: HEIGHT, duration, isDisabled: reach!.busy, onChange: (now: Point[]) => reach!.onChange(id, now),
      }),
    };
  });
