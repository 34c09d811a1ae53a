import { createElement } from 'react';
import type { Range } from '../../lanes/draw';
import type { LaneArgs, LaneKind } from './contract';

function marks({ groups, selectedSnag, theme, onSnag }: LaneArgs, range: Range) {
  const span = range.to - range.from;
  return groups.flatMap((group, i) => group.snags.map((s, part) =>
    s.start_s > range.to || s.end_s < range.from
      ? null
      : createElement('button', {
          key: `${i}.${part}`,
          type: 'button',
          tabIndex: -1, // the list beside the view is the way by keyboard
          title: s.text,
          'aria-label': s.text,
          onClick: () => onSnag(i, part),
          style: {
            position: 'absolute', left: `calc(${(100 * (s.start_s - range.from)) / span}% - 5px)`, top: 3, width: 10, height: 12, padding: 0,
            border: 0, cursor: 'pointer', clipPath: s.mended ? 'circle(3px)' : 'polygon(0 0, 100% 0, 50% 100%)',
            background: i === selectedSnag ? theme.selection : s.mended ? theme.good : theme.wrong,
          },
        }),
  ));
}

export const snagLane: LaneKind = (args) => [{ id: 'snags', name: 'Snags', height: 18, content: (range) => marks(args, range) }];
