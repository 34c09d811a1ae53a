import { PassStrip } from '../passes';
import type { BenchPanel } from './contract';

export const passesPanel: BenchPanel = {
  id: 'passes',
  name: 'The strip of passes',
  side: 'top',
  Show: ({ bench }) => (
    <PassStrip
      passes={bench.data.passes} played={bench.played} runs={bench.runs} mends={bench.data.mends.filter((m) => m.active).length}
      snags={bench.data.snags.filter((s) => !s.mended && s.severity >= 1).length} onRun={bench.runPass} onCancel={bench.cancel}
    />
  ),
};
