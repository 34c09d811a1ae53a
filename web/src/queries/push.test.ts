import { describe, expect, it } from 'vitest';
import { staleBy } from './push';

const names = (change: Parameters<typeof staleBy>[0]) => staleBy(change, 3).map((k) => k.join(' ')).sort();

describe('what a change makes stale', () => {
  it('asks for the runs alone while a pass goes on, and for the whole take when one ends', () => {
    expect(names({ table: 'work_run', take: 7, state: 'running' })).not.toContain('take 7');
    expect(names({ table: 'work_run', take: 7, state: 'running' })).toContain('runs 7');
    expect(names({ table: 'work_run', take: 7, state: 'done' })).toEqual(expect.arrayContaining(['runs 7', 'take 7', 'board 3']));
  });

  it('reaches the place that shows it', () => {
    expect(names({ table: 'handover_package', production: 3 })).toEqual(expect.arrayContaining(['packages 3', 'package', 'board 3']));
    expect(names({ table: 'stage_blinds' })).toEqual(['stage 3']);
    expect(names({ table: 'cast_performercalibration' })).toEqual(expect.arrayContaining(['cast 3']));
    expect(names({ table: 'floor_rolling', slate: 2 })).toEqual(expect.arrayContaining(['rolling 3', 'floor', 'board 3']));
    expect(names({ table: 'takes_mend', take: 9 })).toEqual(expect.arrayContaining(['take 9', 'changes 9']));
    expect(names({ table: 'takes_take', take: 9, slate: 2 })).not.toContain('stage 3');
  });
});
