import { useMemo } from 'react';
import styled from 'styled-components';
import { Choice } from '../../parts/choices';
import { Quiet, Trouble } from '../../parts/controls';
import { useCharacterFiles } from '../../queries/characters';
import { streamOf, useAround, useBodies, useCharacterMotions, useProps, useTracks } from '../../queries/take';
import { night } from '../../theme';
import type { BodyLevels } from '../../view/pose';
import { StageView } from '../../view/stage-view';
import { Casting } from '../casting';
import { usePatched } from '../fills';
import type { BenchState } from '../state';
import type { BenchPanel } from './contract';

const FileNotes = styled.ul`
  position: absolute;
  inset: 34px auto auto 14px; /* beside the body, which stands in the middle */
  z-index: 1;
  margin: 0;
  padding: 0;
  list-style: none;
  font-size: 12px;
  line-height: 1.5;
  color: ${night.quiet};
  max-width: 30%;
  overflow-wrap: anywhere;
  pointer-events: none;
`;

const Whose = styled.div`
  position: absolute;
  inset: auto 14px 8px auto;
  z-index: 1;
  display: flex;
  align-items: end;
  gap: 12px;
`;

const SURE = 'joint uncertainty';
const MARKERS = ['mended', 'labelled', 'rigid bodies', SURE];
const ASIDE_M = 1.4;
const NOBODY: BodyLevels[] = [];

/** What can be looked at: the performer, one of their characters alone, or beside or over them. */
function choices(bench: BenchState) {
  const names = [...new Set(bench.played.map((p) => p.name))];
  return [
    { id: 'performer', words: bench.performers.length > 1 ? 'the performers' : 'the performer' },
    ...names.flatMap((name) => [
      { id: `only ${name}`, words: name },
      { id: `beside ${name}`, words: `${name} beside` },
      { id: `over ${name}`, words: `${name} over` },
    ]),
  ];
}

/** Everybody's body over the markers of the one who is looked at, and the characters they play. */
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
    const markers = usePatched(tracks.mended, bench.fills) ?? tracks.labelled ?? tracks['rigid bodies'] ?? null;
    const sureOf = streamOf(data.streams, SURE, who);
    const uncertainty = useMemo(
      () => (tracks[SURE] && sureOf ? { performer: sureOf.performer, bones: sureOf.details.bones, levels: tracks[SURE] } : null),
      [tracks, sureOf],
    );
    const options = choices(bench);
    const whom = options.some((o) => o.id === bench.whom) ? bench.whom : 'performer';
    const [way, name] = [whom.split(' ')[0], whom.slice(whom.indexOf(' ') + 1)];
    const looked = useMemo(() => (way === 'performer' ? [] : bench.characters.filter((c) => c.name === name)), [bench.characters, way, name]);
    const ofThem = useMemo(() => data.streams.filter((s) => looked.some((c) => c.name === s.character)), [data.streams, looked]);
    const motions = useCharacterMotions(ofThem, around);
    const aside = way === 'beside' ? ASIDE_M : 0;
    const carried = useProps(ofThem, around, 'character prop', aside);
    const files = useCharacterFiles(looked);
    const characters = useMemo(
      () => motions.map((motion) => ({ motion, file: files.get(motion.name) ?? null, aside })),
      [motions, files, aside],
    );
    const shown = useMemo(() => (way === 'only' ? carried : [...props, ...carried]), [way, props, carried]);
    const failed = bench.runs.find((r) => r.state === 'failed');
    if (bodies.length === 0 && !markers)
      return (
        <div style={{ padding: 24 }}>
          {failed ? <Trouble error={failed.message} /> : <Quiet>{bench.working ? 'The passes are at work; the body appears here when it is solved.' : data.passes.some((p) => p.name === 'label') ? 'Nothing to show yet: run Label and Solve, or roll a warm-up for this performer first.' : 'Nothing to show yet: run Solve.'}</Quiet>}
        </div>
      );
    const solved = data.streams.some((s) => s.name === 'body rotation');
    const alone = way === 'only' && characters.length > 0;
    const words = bodies.length ? (solved ? (tracks['rigid bodies'] ? 'solved body over rigid bodies' : markers ? 'solved body over markers' : 'solved body') : 'body from a file') : 'markers, not solved yet';
    const waiting = way !== 'performer' && characters.length === 0 ? `; ${name} is not there yet` : '';
    return (
      <>
        {bench.notes.length > 0 && <FileNotes aria-label="Notes on the files">{bench.notes.map((n) => <li key={n}>{n}</li>)}</FileNotes>}
        <StageView
          caption={alone ? `${name} · as it leaves` : `${data.take.performers.join(', ')} · ${words}${characters.length ? ` · ${name} ${way}` : waiting}`}
          bodies={alone ? NOBODY : bodies} characters={characters} markers={alone ? null : markers} uncertainty={alone ? null : uncertainty} props={shown} ghost={bench.proposal} names={bench.names} transport={bench.transport}
          selected={bench.marker} onSelect={bench.pickMarker}
        />
        <Whose>
          {performers.length > 1 && <Choice label="Markers and lanes of" value={who} options={performers.map((p) => ({ id: p, words: p }))} onChange={bench.setWho} />}
          {bench.all.length > 0 && <Casting bench={bench} />}
          {options.length > 1 && <Choice label="Look at" value={whom} options={options} onChange={bench.see} style={{ minWidth: 150 }} />}
        </Whose>
      </>
    );
  },
};
