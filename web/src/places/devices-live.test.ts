import { describe, expect, it } from 'vitest';
import { deviceWords } from './devices-live';

const device = { id: 'suit', words: 'Suit', performer: 'Ines', trouble: null, rate: 100, hz: 100, lost: 0, waited_for: false, answering: 1 };

describe('how a device is doing', () => {
  it('is not told before its rate has been counted', () => {
    for (const hz of [0, 40, 165]) expect(deviceWords({ ...device, hz }, 100, true).words).toBe('waiting for it…');
    expect(deviceWords(undefined, 100, false).words).toBe('waiting for it…');
    expect(deviceWords({ ...device, hz: 0, waited_for: true }, 100, false)).toEqual({ words: 'waiting for it…', well: false });
  });

  it('is told from then on, and what is wrong at once', () => {
    expect(deviceWords(device, 100, false)).toEqual({ words: 'receiving · nothing lost', well: true });
    expect(deviceWords({ ...device, hz: 0 }, 100, false)).toEqual({ words: 'nothing received just now', well: false });
    expect(deviceWords({ ...device, hz: 70, lost: 12 }, 100, false)).toEqual({ words: 'slow · 12 lost', well: false });
    expect(deviceWords({ ...device, answering: 0.4 }, 100, false)).toEqual({ words: '40 % of it answers · nothing lost', well: false });
    const trouble = 'The suit does not answer; trying again.';
    expect(deviceWords({ ...device, trouble }, 100, true)).toEqual({ words: trouble, well: false });
  });
});
