import { QueryObserver } from '@tanstack/react-query';
import { expect, test, vi } from 'vitest';
import { FreshClient } from './fresh-client';

test('a first answer that was on its way while something changed is asked for once more, and only once', async () => {
  const client = new FreshClient();
  const asked: ((answer: string) => void)[] = [];
  const observer = new QueryObserver<string>(client, { queryKey: ['users'], queryFn: () => new Promise((answer) => asked.push(answer)) });
  const seen: (string | undefined)[] = [];
  const stop = observer.subscribe((result) => seen.push(result.data));
  await vi.waitFor(() => expect(asked).toHaveLength(1));
  const first = client.invalidateQueries({ queryKey: ['users'] });
  const second = client.invalidateQueries();
  asked[0]('before');
  await vi.waitFor(() => expect(asked).toHaveLength(2));
  asked[1]('after');
  await Promise.all([first, second]);
  expect(seen.at(-1)).toBe('after');
  expect(asked).toHaveLength(2);
  stop();
});
