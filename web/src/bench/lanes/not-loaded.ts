import { createElement } from 'react';
import { WordButton } from '../../parts/controls';
import type { LaneKind } from './contract';

/** What could not be loaded says so in its own lane, with a way to try again. */
export const notLoadedLanes: LaneKind = ({ notLoaded }) =>
  notLoaded.map(({ name, message, retry }) => ({
    id: `not loaded ${name}`, name, detail: 'not loaded', height: 34,
    content: () => createElement('div', { role: 'alert', style: { padding: '6px 10px', display: 'flex', gap: 12 } }, message, createElement(WordButton, { onPress: retry }, 'Try again')),
  }));
