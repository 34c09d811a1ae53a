import { useEffect, useState } from 'react';
import styled from 'styled-components';
import { ServerError } from '../api/client';
import { Quiet, WordButton } from './controls';

export type Written = { note: string; version: number };
type Theirs = Written & { by: string };

/** What somebody else wrote meanwhile, out of a refused attempt to save a note; null where it was refused for another reason. */
export function theirsOf(error: unknown): Theirs | null {
  if (!(error instanceof ServerError) || error.status !== 409 || !error.conflict) return null;
  return { note: String(error.conflict.theirs.note ?? ''), version: error.conflict.version, by: error.conflict.by || 'Somebody else' };
}

/** Both notes in one, theirs first. */
export const both = (theirs: string, mine: string): string => [theirs, mine].filter((words) => words.trim()).join(' / ');

/**
 * A note that is typed here while others may write it too. What they write appears as long as nothing has been typed; what has been typed
 * stays, and when it is saved both are shown.
 */
export function useNote(of: string, now: Written, write: (note: string, version: number) => Promise<Written>) {
  const [draft, setDraft] = useState({ of, text: now.note, seen: now });
  const [theirs, setTheirs] = useState<Theirs | null>(null);
  const [error, setError] = useState<unknown>(null);
  const touched = draft.of === of && draft.text !== draft.seen.note && draft.text !== now.note;
  useEffect(() => {
    if (touched) return;
    setDraft({ of, text: now.note, seen: now });
    setTheirs(null);
  }, [of, now.note, now.version]); // eslint-disable-line react-hooks/exhaustive-deps
  const save = async (text = draft.text, version = draft.seen.version) => {
    if (text === draft.seen.note && !theirs) return;
    try {
      const seen = await write(text, version);
      setDraft((before) => ({ of, text: before.text === draft.text ? text : before.text, seen: { note: text, version: seen.version } }));
      setTheirs(null);
      setError(null);
    } catch (refused) {
      const told = theirsOf(refused);
      setTheirs(told);
      setError(told ? null : refused);
    }
  };
  return {
    text: draft.of === of ? draft.text : now.note,
    seen: draft.seen,
    touched,
    error,
    type: (text: string) => setDraft((before) => ({ ...before, text })),
    save: () => void save(),
    theirs,
    putMine: () => theirs && void save(draft.text, theirs.version),
    putBoth: () => {
      if (!theirs) return;
      const text = both(theirs.note, draft.text);
      setDraft((before) => ({ ...before, text }));
      void save(text, theirs.version);
    },
    keepTheirs: () => {
      if (!theirs) return;
      setDraft({ of, text: theirs.note, seen: theirs });
      setTheirs(null);
    },
  };
}

const Beside = styled.div`
  font-size: 12.5px;
  border-left: 3px solid ${(p) => p.theme.wrong};
  padding: 4px 10px;
  margin-top: 4px;
  white-space: normal;
  q {
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  button {
    margin-right: 14px;
  }
`;

/** Both notes and what can be done, where somebody else was quicker. */
export function TwoNotes({ note }: { note: ReturnType<typeof useNote> }) {
  if (!note.theirs) return null;
  return (
    <Beside role="alert">
      <div>{note.theirs.by} has written: {note.theirs.note ? <q>{note.theirs.note}</q> : <Quiet>nothing any more</Quiet>}</div>
      <div>You have written: {note.text ? <q>{note.text}</q> : <Quiet>nothing</Quiet>}. It is not saved yet.</div>
      <WordButton onPress={note.putBoth}>Keep both</WordButton>
      <WordButton onPress={note.keepTheirs}>Keep theirs</WordButton>
      <WordButton onPress={note.putMine}>Replace it with mine</WordButton>
    </Beside>
  );
}
