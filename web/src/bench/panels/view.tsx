import styled from 'styled-components';
import { Choice } from '../../parts/choices';
import { Quiet, Trouble } from '../../parts/controls';
import { useAround, useBodies, useProps, useTracks } from '../../queries/take';
import { night } from '../../theme';
import { StageView } from '../../view/stage-view';
import { usePatched } from '../fills';
import type { BenchPanel } from './contract';

const FileNotes = styled.ul`
  position: absolute;
  inset: auto auto 8px 14px;
  z-index: 1;
  margin: 0;
  padding: 0;
  list-style: none;
  font-size: 12px;
  color: ${night.quiet};
  max-width: 60%;
  pointer-events: none;
`;

const Whose = styled.div`
  position: absolute;
  inset: auto 14px 8px auto;
  z-index: 1;
`;

const MARKERS = ['mended', 'labelled'];

/** Everybody's body over the markers of the one who is looked at. */
export const viewPanel: BenchPanel = {
  id: 'view',
  name: 'The view',
  side: 'main',
  Show: ({ bench }) => {
    const { data, who, performers } = bench;
    const around = useAround(bench.transport);
    const bodies = useBodies(data.streams, around);
    const props = useProps(data.streams, around);
    const { tracks } = useTracks(data.streams, MARKERS, who, around);
    const markers = usePatched(tracks.mended, bench.fills) ?? tracks.labelled ?? null;
    const failed = bench.runs.find((r) => r.state === 'failed');
    if (bodies.length === 0 && !markers)
      return (
        <div style={{ padding: 24 }}>
          {failed ? <Trouble error={failed.message} /> : <Quiet>{bench.working ? 'The passes are at work; the body appears here when it is solved.' : 'Nothing to show yet: run Label and Solve, or roll a warm-up for this performer first.'}</Quiet>}
        </div>
      );
    const solved = data.streams.some((s) => s.name === 'body rotation');
    return (
      <>
        {bench.notes.length > 0 && <FileNotes aria-label="Notes on the files">{bench.notes.map((n) => <li key={n}>{n}</li>)}</FileNotes>}
        <StageView
          caption={`${data.take.performers.join(', ')} · ${bodies.length ? (solved ? (markers ? 'solved body over markers' : 'solved body') : 'body from a file') : 'markers, not solved yet'}`}
          bodies={bodies} markers={markers} props={props} ghost={bench.proposal} names={bench.names} transport={bench.transport}
          selected={bench.marker} onSelect={bench.pickMarker}
        />
        {performers.length > 1 && (
          <Whose><Choice label="Markers and lanes of" value={who} options={performers.map((p) => ({ id: p, words: p }))} onChange={bench.setWho} /></Whose>
        )}
      </>
    );
  },
};
