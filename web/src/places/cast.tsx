import { lazy, Suspense, useLayoutEffect, useMemo, useRef, useState } from 'react';
import { useParams, useSearchParams } from 'react-router';
import styled, { useTheme } from 'styled-components';
import { type Me } from '../api/client';
import { Empty, PlainButton, Quiet, Trouble, WordButton } from '../parts/controls';
import { Frame } from '../parts/frame';
import { paper } from '../theme';
import { useCharacters } from '../queries/characters';
import { useCast } from '../queries/production';
import { NewPerformer, PerformerDetail } from './performer';

const CharacterDetail = lazy(() => import('./character').then((m) => ({ default: m.CharacterDetail })));
const NewCharacter = lazy(() => import('./character').then((m) => ({ default: m.NewCharacter })));

const Wrap = styled.div`
  padding: 20px 28px 40px;
  max-width: 1480px;
  margin: 0 auto;
  display: grid;
  grid-template-columns: 250px 1fr;
  gap: 28px;
`;

const People = styled.div`
  display: grid;
  gap: 6px;
  align-content: start;
  button {
    font: inherit;
    text-align: left;
    background: none;
    border: 0;
    border-left: 3px solid transparent;
    padding: 8px 12px;
    color: inherit;
    cursor: pointer;
    &[aria-pressed='true'] {
      background: ${(p) => p.theme.picked};
      border-left-color: ${(p) => p.theme.selection};
    }
    strong {
      font-size: 16px;
      display: block;
    }
  }
`;

/** Who plays whom, drawn from name to name along the list. */
function PlayLines({ pairs, shown }: { pairs: { performer: number; character: number }[]; shown: number | undefined }) {
  const theme = useTheme();
  const ref = useRef<SVGSVGElement>(null);
  const [lines, setLines] = useState<{ d: string; bright: boolean }[]>([]);
  useLayoutEffect(() => {
    const svg = ref.current!;
    const measure = () => {
      const box = svg.getBoundingClientRect();
      const end = (kind: string, id: number) => {
        const at = svg.parentElement!.querySelector(`[data-${kind}="${id}"]`)?.getBoundingClientRect();
        return at && { x: at.right - box.left, y: at.top + at.height / 2 - box.top };
      };
      setLines(pairs.flatMap(({ performer, character }, i) => {
        const [a, b] = [end('performer', performer), end('character', character)];
        if (!a || !b) return [];
        const bend = Math.max(a.x, b.x) + 14 + 5 * (i % 3);
        return [{ d: `M${a.x - 6} ${a.y}C${bend} ${a.y} ${bend} ${b.y} ${b.x - 6} ${b.y}`, bright: character === shown }];
      }));
    };
    const watch = new ResizeObserver(measure);
    watch.observe(svg.parentElement!);
    measure();
    return () => watch.disconnect();
  }, [pairs, shown]);
  return (
    <svg ref={ref} aria-hidden="true" style={{ position: 'absolute', inset: 0, width: '100%', height: '100%', overflow: 'visible', pointerEvents: 'none' }}>
      {lines.map(({ d, bright }) => <path key={d} d={d} fill="none" stroke={theme.selection} strokeWidth={bright ? 2.5 : 1.2} opacity={bright ? 1 : 0.55} />)}
    </svg>
  );
}

export function Cast({ me }: { me: Me }) {
  const production = Number(useParams().production);
  const cast = useCast(production);
  const [query, setQuery] = useSearchParams();
  const picked = Number(query.get('performer')) || null;
  const adding = query.has('new');
  const name = me.memberships.find((m) => m.production_id === production)?.production ?? '';
  const characters = useCharacters(production);
  const character = characters.data?.find((c) => c.id === Number(query.get('character')));
  const addingCharacter = query.has('new-character');
  const performer = character || addingCharacter ? undefined : cast.data?.find((p) => p.id === picked) ?? cast.data?.[0];
  const cells = [
    { what: 'production', value: name },
    character ? { what: 'character', value: character.name } : addingCharacter ? { what: 'character', value: 'a new one' } : { what: 'cast', value: performer?.name ?? (cast.data ? 'nobody yet' : '…') },
  ];
  const pairs = useMemo(() => (cast.data && characters.data ? characters.data.flatMap((c) => c.player_ids.map((performer) => ({ performer, character: c.id }))) : []), [cast.data, characters.data]);
  const nameOf = (id: number) => cast.data?.find((p) => p.id === id)?.name ?? '';
  return (
    <Frame theme={paper} me={me} productionId={production} cells={cells}>
      <Wrap>
        <div style={{ position: 'relative' }}>
          <PlayLines pairs={pairs} shown={character?.id} />
          <People role="group" aria-label="Performers">
            <Trouble error={cast.error} />
            {(cast.data?.length ?? 0) > 0 && <Quiet style={{ paddingLeft: 15 }}>Performers</Quiet>}
            {cast.data?.map((p) => (
              <button key={p.id} type="button" data-performer={p.id} aria-pressed={!adding && p.id === performer?.id} onClick={() => setQuery({ performer: String(p.id) })}>
                <strong>{p.name}</strong>
                <Quiet>{p.calibrations.length ? `calibrated, v${p.calibrations[0].version}` : 'not calibrated'}</Quiet>
              </button>
            ))}
            {(cast.data?.length ?? 0) > 0 && <WordButton style={{ justifySelf: 'start' }} onPress={() => setQuery({ new: '' })}>New performer</WordButton>}
          </People>
          {(cast.data?.length ?? 0) > 0 && (
            <People role="group" aria-label="Characters" style={{ marginTop: 22 }}>
              <Quiet style={{ paddingLeft: 15 }}>Characters</Quiet>
              <Trouble error={characters.error} />
              {characters.data?.map((c) => (
                <button key={c.id} type="button" data-character={c.id} aria-pressed={c.id === character?.id} onClick={() => setQuery({ character: String(c.id) })}>
                  <strong>{c.name}</strong>
                  <Quiet>{c.height_m.toFixed(2)} m · {c.player_ids.length ? `played by ${c.player_ids.map(nameOf).join(', ')}` : 'played by nobody yet'}</Quiet>
                </button>
              ))}
              <WordButton style={{ justifySelf: 'start' }} onPress={() => setQuery({ 'new-character': '' })}>New character</WordButton>
            </People>
          )}
        </div>
        {cast.data?.length === 0 && !adding && (
          <Empty style={{ gridColumn: '1 / -1' }}>
            <h2>Nobody in the cast yet</h2>
            <p>Say who performs, how tall they are and what they wear; a warm-up of about 40 s then gives everything else.</p>
            <PlainButton onPress={() => setQuery({ new: '' })}>New performer</PlainButton>
          </Empty>
        )}
        {adding && <NewPerformer production={production} onDone={(id) => setQuery(id ? { performer: String(id) } : {})} />}
        <Suspense fallback={<Quiet>Loading…</Quiet>}>
          {addingCharacter && <NewCharacter production={production} onDone={(id) => setQuery(id ? { character: String(id) } : {})} />}
          {character && <CharacterDetail key={character.id} character={character} others={characters.data?.filter((c) => c.id !== character.id) ?? []} performers={cast.data ?? []} production={production} />}
        </Suspense>
        {!adding && performer && <PerformerDetail key={performer.id} performer={performer} production={production} />}
      </Wrap>
    </Frame>
  );
}
