import { describe, expect, it } from 'vitest';
import type { Levels } from '../../api/tracks';
import { night } from '../../theme';
import type { LaneArgs } from './contract';
import { benchLanes, LANE_KINDS } from './index';

const track = (width: number, samples = 40): Levels => ({ whole: { values: new Float32Array(width * samples).fill(0.5), width, samples, rate: 50, start: 0 }, near: null });
const device = (id: string, draws: string) => ({
  id, words: `The ${id}`, worn: true, channels: [], lane: { detail: 'd', height: 30, draws, parts: 2, least_span: 0, curves: [{ channel: 1, side: 'left', line: 'solid' }] },
});
const args = (values: Partial<LaneArgs> = {}): LaneArgs => ({
  tracks: {}, devices: [], names: ['a', 'b'], groups: [], selectedSnag: -1, marker: null, open: false, theme: night, proposal: null, hasOptical: false, duration: 20, reach: null,
  notLoaded: [], onOpen: () => undefined, onMarker: () => undefined, onSnag: () => undefined, ...values,
});
const ids = (values: Partial<LaneArgs>) => benchLanes(args(values)).map((l) => l.id);

describe('lanes of the bench', () => {
  it('shows a device that declares a lane and delivered a stream, whatever it is', () => {
    const devices = [device('belt', 'curves'), device('suit', 'share'), device('room', 'wave'), { ...device('timecode', 'wave'), lane: null }];
    expect(ids({ devices, tracks: { belt: track(2), room: track(1), timecode: track(1) } })).toEqual(['snags', 'belt', 'room']);
  });

  it('takes a new kind by one line in the list', () => {
    const kinds = [...LANE_KINDS, () => [{ id: 'tide', name: 'Tide', height: 20 }]];
    expect(benchLanes(args(), kinds).map((l) => l.id)).toEqual(['snags', 'tide']);
  });

  it('says of points without names, and of what could not be loaded', () => {
    const notLoaded = [{ name: 'face', message: 'the network is away', retry: () => undefined }];
    expect(ids({ hasOptical: true, notLoaded })).toEqual(['snags', 'optical', 'not loaded face']);
  });

  it('has one for every limb of the character that is looked at', () => {
    const limbs = [{ id: 'left_hand', words: 'left hand reaches', value: [[1, 0], [2, 1]] as [number, number][] }, { id: 'right_hand', words: 'right hand reaches', value: 0 }];
    const reach = { name: 'Gull', limbs, busy: false, onChange: () => undefined };
    expect(ids({ reach })).toEqual(['snags', 'reach left_hand', 'reach right_hand']);
    expect(ids({ tracks: { mended: track(6), 'joint uncertainty': track(3) }, marker: 1 })).toEqual(['snags', 'optical', 'marker', 'uncertainty']);
  });
});
