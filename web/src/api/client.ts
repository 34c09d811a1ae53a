import type { components } from './schema';

export type Schemas = components['schemas'];
export type Me = Schemas['Me'];
export type Board = Schemas['Board'];
export type SlateRow = Schemas['SlateRow'];
export type TakeRow = Schemas['TakeRow'];
export type PassOut = Schemas['PassOut'];
export type RunOut = Schemas['RunOut'];
export type TakeOut = Schemas['TakeOut'];
export type SnagOut = Schemas['SnagOut'];
export type StreamOut = Schemas['StreamOut'];
export type PerformerOut = Schemas['PerformerOut'];
export type CharacterOut = Schemas['CharacterOut'];
export type MapChangeOut = Schemas['MapChangeOut'];
export type PackageOut = Schemas['PackageOut'];
export type FloorOut = Schemas['FloorOut'];
export type RollingOut = Schemas['RollingOut'];

/** An answer of the server that is no success; `message` is the sentence to show. */
export class ServerError extends Error {
  constructor(
    readonly status: number,
    message: string,
    /** Where somebody else was quicker: what there is now, by whom, and the version of it. */
    readonly conflict?: { theirs: Record<string, unknown>; by: string; version: number },
  ) {
    super(message);
  }
}

function cookie(name: string): string {
  const found = document.cookie.split('; ').find((c) => c.startsWith(`${name}=`));
  return found ? decodeURIComponent(found.slice(name.length + 1)) : '';
}

async function answer(response: Response): Promise<Response> {
  if (response.ok) return response;
  let conflict: ServerError['conflict'];
  let message = `The server answered ${response.status}; try again, and tell the technician if it stays so.`;
  try {
    const body = (await response.json()) as { detail?: unknown } & NonNullable<ServerError['conflict']>;
    if (typeof body.detail === 'string') message = body.detail;
    if (response.status === 409) conflict = body;
  } catch {
    // no JSON in it: the sentence above stands
  }
  throw new ServerError(response.status, message, conflict);
}

async function send(method: string, path: string, body?: unknown): Promise<Response> {
  const headers: Record<string, string> = {};
  if (method !== 'GET') {
    if (!cookie('csrftoken')) await fetch('/api/csrf');
    headers['X-CSRFToken'] = cookie('csrftoken');
  }
  if (body !== undefined && !(body instanceof FormData)) headers['Content-Type'] = 'application/json';
  let response: Response;
  try {
    response = await fetch(`/api${path}`, {
      method,
      headers,
      body: body === undefined ? undefined : body instanceof FormData ? body : JSON.stringify(body),
    });
  } catch {
    throw new ServerError(0, 'The server cannot be reached; what you did is not lost, try again in a moment.');
  }
  return answer(response);
}

export async function get<T>(path: string): Promise<T> {
  return (await send('GET', path)).json() as Promise<T>;
}

export async function getBytes(path: string): Promise<ArrayBuffer> {
  return (await send('GET', path)).arrayBuffer();
}

export async function post<T>(path: string, body?: unknown): Promise<T> {
  return (await send('POST', path, body)).json() as Promise<T>;
}

export async function patch<T>(path: string, body: unknown): Promise<T> {
  return (await send('PATCH', path, body)).json() as Promise<T>;
}

export async function put<T>(path: string, body: unknown): Promise<T> {
  return (await send('PUT', path, body)).json() as Promise<T>;
}

export async function remove(path: string): Promise<void> {
  await send('DELETE', path);
}
