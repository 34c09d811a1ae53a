import { useBenchLanes } from '../lanes';
import { Lanes } from '../../lanes/lanes';
import { night } from '../../theme';
import type { BenchPanel } from './contract';

export const lanesPanel: BenchPanel = {
  id: 'lanes',
  name: 'The lanes',
  side: 'below',
  Show: ({ bench }) => {
    const { data, names, marker, proposal, duration } = bench;
    const take = data.take;
    const lanes = useBenchLanes({
      tracks: bench.tracks, devices: bench.devices, names, groups: bench.groups, selectedSnag: bench.snag, marker, open: bench.open, theme: night,
      proposal: marker !== null && bench.here?.subject === names[marker] ? proposal : null,
      hasOptical: data.streams.some((s) => s.name === 'optical'), notLoaded: bench.notLoaded, duration, reach: bench.reach,
      onOpen: bench.toggleOpen, onMarker: bench.pickMarker, onSnag: bench.goTo,
    });
    const whose = bench.performers.length > 1 ? ` · ${bench.who}` : '';
    return (
      <Lanes
        lanes={lanes} transport={bench.transport} title={`Take ${take.number} · ${duration.toFixed(1)} s${whose}`} labelOf={bench.labelOf}
        inOut={[take.in_s, take.out_s]} range={bench.range} onRange={bench.setRange}
      />
    );
  },
};
