import { useQuery } from '@tanstack/react-query';
import { get, getBytes, type CharacterOut } from '../api/client';
import { useAsking } from './push';

/** The characters of a production with their newest maps. */
export function useCharacters(production: number) {
  return useQuery({ queryKey: ['characters', production], queryFn: () => get<CharacterOut[]>(`/productions/${production}/characters`), refetchInterval: useAsking(8000) });
}

/** A character's file with a performer's warm-up on it; asked for again when the map changes. */
export function useWarmUpOn(character: CharacterOut, performer: number | null) {
  return useQuery({
    queryKey: ['warm-up on', character.id, performer, character.map.version],
    queryFn: () => getBytes(`/characters/${character.id}/warm-ups/${performer}`),
    enabled: performer !== null && character.skinned,
    staleTime: Infinity,
    retry: false,
  });
}

/** A character's own file, as it was given: it stands at rest. */
export function useOwnFile(character: CharacterOut, wanted: boolean) {
  return useQuery({ queryKey: ['character file', character.id], queryFn: () => getBytes(`/characters/${character.id}/file`), enabled: wanted && character.skinned, staleTime: Infinity, retry: false });
}
