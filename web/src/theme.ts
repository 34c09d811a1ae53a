/** One set of tokens; `night` for dim rooms (Floor, Bench), `paper` for the board and the hand-over. */
const shared = {
  sans: "'B612', sans-serif",
  mono: "'IBM Plex Mono', monospace",
  size: { small: '12px', body: '13.5px', large: '16px', huge: '22px' },
};

export const night = {
  ...shared,
  name: 'night' as const,
  ground: '#14131c',
  raised: '#1b1a26',
  picked: '#252433',
  hairline: '#34324a',
  scrollbar: '#57547a',
  text: '#f3ead9',
  quiet: '#a19db5',
  selection: '#a5d8ee',
  onSelection: '#10202a',
  good: '#a9c47f',
  wrong: '#ff7a55',
  left: '#e3c088',
  right: '#b9a2ee',
  marker: '#f3ead9',
  bone: '#ddd5c7',
};

export type Theme = { [K in keyof Omit<typeof night, 'name'>]: (typeof night)[K] } & { name: 'night' | 'paper' };

export const paper: Theme = {
  ...shared,
  name: 'paper',
  ground: '#f3ebdd',
  raised: '#fbf6ec',
  picked: '#e6eff0',
  hairline: '#d5cbb9',
  scrollbar: '#a89c86',
  text: '#23202b',
  quiet: '#635d6c',
  selection: '#1f6f8f',
  onSelection: '#ffffff',
  good: '#49701f',
  wrong: '#b8371a',
  left: '#8a6420',
  right: '#6a4fb0',
  marker: '#cfc4b0',
  bone: '#5b5565',
};
