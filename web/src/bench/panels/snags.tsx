import { SnagList } from '../snags';
import type { BenchPanel } from './contract';

export const snagsPanel: BenchPanel = {
  id: 'snags',
  name: 'The snag list',
  side: 'side',
  tab: 'Snags',
  Show: ({ bench }) => (
    <SnagList
      groups={bench.groups} selected={bench.snag} member={bench.member} method={bench.method} labelOf={bench.labelOf} people={bench.performers.length}
      looked={bench.runs.some((r) => r.state === 'done' && r.figure)} onSelect={bench.goTo} onMethod={bench.setMethod} onAccept={bench.accept}
    />
  ),
};
