import { describe, expect, it } from 'vitest';
import { everyNth, formatOf, frameOf, label, labelAt, labelOfDay, rateWords } from './timecode';

const df = formatOf('30000/1001', true);

describe('timecode labels', () => {
  it('skips two labels at the minute but not at the tenth', () => {
    expect(label(1799, df)).toBe('00:00:59;29');
    expect(label(1800, df)).toBe('00:01:00;02');
    expect(label(17982, df)).toBe('00:10:00;00');
  });

  it('returns every label to its frame across ten minutes', () => {
    for (let f = 0; f < 18000; f += 1) expect(frameOf(label(f, df), df)).toBe(f);
  });

  it('wraps at midnight', () => {
    const last = frameOf('23:59:59;29', df);
    expect(label(last + 1, df)).toBe('00:00:00;00');
    expect(label(-1, df)).toBe('23:59:59;29');
  });

  it('drops four labels at 59.94', () => {
    const fast = formatOf('60000/1001', true);
    expect(label(3600, fast)).toBe('00:01:00;04');
  });

  it('counts the time of day from midnight UTC, in whole frames', () => {
    expect(labelOfDay(Date.UTC(2031, 4, 6, 13, 5, 9, 500), formatOf('25/1', false))).toBe('13:05:09:12');
    expect(labelOfDay(Date.UTC(2031, 4, 6, 0, 10, 0), df)).toBe('00:10:00;00'); // drop-frame keeps within a frame or two of the clock
  });

  it('adds seconds to a first label and never rounds up to a frame that has not come', () => {
    const plain = formatOf('25/1', false);
    expect(labelAt('10:00:00:00', 1.999, plain)).toBe('10:00:01:24');
    expect(labelAt('10:00:00:00', 2, plain)).toBe('10:00:02:00');
  });

  it('names rates as people say them', () => {
    expect(rateWords('30000/1001', true)).toBe('29.97 DF');
    expect(rateWords('25/1', false)).toBe('25');
    expect(rateWords(everyNth('30000/1001', 2), false)).toBe('14.99');
    expect(everyNth('24', 3)).toBe('24/3');
  });
});
