import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { DropZone, FileTrigger, Button as AriaButton } from 'react-aria-components';
import { useNavigate } from 'react-router';
import styled, { ThemeProvider } from 'styled-components';
import { patch, post, put, remove, type CharacterOut, type PerformerOut } from '../api/client';
import { Tick } from '../parts/choices';
import { Figure, FormLine, PlainButton, Quiet, TextInput, Trouble, WordButton } from '../parts/controls';
import { paper } from '../theme';
import { FaceTable } from './character-face';
import { MapTable, MapTools, useMap } from './character-map';
import { Bar, WarmUp } from './character-warm-up';
import { foundOut } from './character-words';

const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 390px;
  gap: 26px;
  margin-top: 12px;
`;

/** The character's name, to be changed, and the way to be rid of it. */
function Name({ character, production }: { character: CharacterOut; production: number }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [doing, setDoing] = useState<'' | 'rename' | 'remove'>('');
  const [name, setName] = useState(character.name);
  const done = () => client.invalidateQueries({ queryKey: ['characters', production] });
  const rename = useMutation({ mutationFn: () => patch<CharacterOut>(`/characters/${character.id}`, { name }), onSuccess: () => { setDoing(''); return done(); } });
  const drop = useMutation({ mutationFn: () => remove(`/characters/${character.id}`), onSuccess: () => { navigate(`/p/${production}/cast`); return done(); } });
  if (doing === 'rename')
    return (
      <FormLine onSubmit={(e) => { e.preventDefault(); rename.mutate(); }}>
        <TextInput label="Name" value={name} onChange={setName} isRequired maxLength={60} autoFocus />
        <PlainButton type="submit" isDisabled={rename.isPending}>Rename</PlainButton>
        <WordButton onPress={() => setDoing('')}>never mind</WordButton>
        <Trouble error={rename.error} />
      </FormLine>
    );
  return (
    <>
      <h1 style={{ margin: 0, fontSize: 22, overflowWrap: 'anywhere' }}>{character.name}</h1>
      {doing === 'remove' ? (
        <span role="group" aria-label="Remove the character" style={{ display: 'inline-flex', gap: 12, alignItems: 'baseline' }}>
          Remove {character.name}, its map and its motions? Packages keep theirs.
          <PlainButton autoFocus isDisabled={drop.isPending} onPress={() => drop.mutate()}>Remove</PlainButton>
          <WordButton onPress={() => setDoing('')}>keep it</WordButton>
          <Trouble error={drop.error} />
        </span>
      ) : (
        <span style={{ display: 'inline-flex', gap: 12, order: 9 }}>
          <WordButton onPress={() => setDoing('rename')}>rename</WordButton>
          <WordButton onPress={() => setDoing('remove')}>remove</WordButton>
        </span>
      )}
    </>
  );
}

export function CharacterDetail({ character, others, performers, production }: { character: CharacterOut; others: CharacterOut[]; performers: PerformerOut[]; production: number }) {
  const client = useQueryClient();
  const map = useMap(character, production);
  const [face, setFace] = useState(false);
  const plays = useMutation({
    mutationFn: (ids: number[]) => put<CharacterOut>(`/characters/${character.id}/players`, { performer_ids: ids, before: character.player_ids }),
    onSettled: () => client.invalidateQueries({ queryKey: ['characters', production] }),
  });
  return (
    <div style={{ minWidth: 0 }}>
      <div style={{ display: 'flex', alignItems: 'baseline', gap: 16, flexWrap: 'wrap' }}>
        <Name character={character} production={production} />
        <span><Figure>{character.height_m.toFixed(2)}</Figure> m</span>
        <Quiet>{character.file_name} · {character.bones.length} bones · {character.shapes.length} face shapes · {foundOut(character)}</Quiet>
      </div>
      {character.notes.map((n) => <p key={n} style={{ margin: '4px 0 0' }}><Quiet>{n}</Quiet></p>)}
      <Bar role="group" aria-label="Played by">
        <Quiet>Played by</Quiet>
        {performers.map((p) => (
          <Tick key={p.id} isSelected={character.player_ids.includes(p.id)} isDisabled={plays.isPending} onChange={(on) => plays.mutate(on ? [...character.player_ids, p.id] : character.player_ids.filter((id) => id !== p.id))}>{p.name}</Tick>
        ))}
        {!character.player_ids.length && performers.length > 0 && <Quiet>nobody yet: takes leave without this character</Quiet>}
      </Bar>
      <Trouble error={plays.error} />
      <ThemeProvider theme={paper}>
        <Two>
          <WarmUp character={character} performers={performers} map={map} />
          <div>
            {character.shapes.length > 0 && (
              <div role="group" aria-label="What is mapped" style={{ display: 'flex', gap: 16, marginBottom: 8 }}>
                <WordButton $on={!face} aria-pressed={!face} onPress={() => setFace(false)}>Bones</WordButton>
                <WordButton $on={face} aria-pressed={face} onPress={() => setFace(true)}>Face shapes</WordButton>
              </div>
            )}
            {face ? <FaceTable character={character} keep={map.keep} /> : <MapTable character={character} map={map} />}
            <MapTools character={character} others={others} />
          </div>
        </Two>
      </ThemeProvider>
    </div>
  );
}

const Dropping = styled(DropZone)`
  display: grid;
  gap: 8px;
  justify-items: start;
  padding: 22px;
  border: 1px dashed ${(p) => p.theme.quiet};
  max-width: 560px;
  &[data-drop-target] {
    background: ${(p) => p.theme.picked};
    border-color: ${(p) => p.theme.selection};
  }
`;

const Pick = styled(AriaButton)`
  font: inherit;
  color: ${(p) => p.theme.onSelection};
  background: ${(p) => p.theme.selection};
  border: 0;
  border-radius: 3px;
  padding: 7px 14px;
  cursor: pointer;
`;

export function NewCharacter({ production, onDone }: { production: number; onDone: (id?: number) => void }) {
  const client = useQueryClient();
  const add = useMutation({
    mutationFn: (file: File) => {
      const form = new FormData();
      form.append('file', file);
      return post<CharacterOut>(`/productions/${production}/characters`, form);
    },
    onSuccess: async (c) => {
      await client.invalidateQueries({ queryKey: ['characters', production] });
      onDone(c.id);
    },
  });
  const take = (file: File | null | undefined) => file && add.mutate(file);
  return (
    <div>
      <h1 style={{ margin: '0 0 12px', fontSize: 22 }}>New character</h1>
      <Dropping aria-label="Drop a character file" onDrop={async (e) => {
        const item = e.items.find((i) => i.kind === 'file');
        if (item && item.kind === 'file') take(await item.getFile());
      }}>
        <span>Drop the file the animators sent: GLB, VRM, BVH or USD.</span>
        <FileTrigger acceptedFileTypes={['.glb', '.vrm', '.bvh', '.usda', '.usdc', '.usdz', '.usd']} onSelect={(files) => take(files?.[0])}>
          <Pick isDisabled={add.isPending}>Choose a file</Pick>
        </FileTrigger>
        <Quiet>Its map is proposed at once. The file itself is kept as it is.</Quiet>
      </Dropping>
      {add.isPending && <p aria-live="polite">Reading the character and proposing its map…</p>}
      <Trouble error={add.error} />
      <p><WordButton onPress={() => onDone()}>never mind</WordButton></p>
    </div>
  );
}
