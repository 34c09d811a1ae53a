import { DialogTrigger, Popover } from 'react-aria-components';
import { Tick } from '../parts/choices';
import { Quiet, WordButton } from '../parts/controls';
import { Sheet } from '../parts/sheet';
import type { BenchState } from './state';

/** Who plays whom in this take, where it differs from the production. */
export function Casting({ bench }: { bench: BenchState }) {
  return (
    <DialogTrigger>
      <WordButton isDisabled={bench.working}>who plays whom</WordButton>
      <Popover placement="top end">
        <Sheet aria-label="Who plays whom in this take">
          <strong>Who plays whom in this take</strong>
          {bench.data.appearances.map((a) => (
            <div key={a.performer_id} role="group" aria-label={a.performer}>
              <h3 style={{ margin: '8px 0 2px', fontSize: 14 }}>{a.performer}</h3>
              {bench.all.map((c) => (
                <Tick key={c.id} isSelected={a.character_ids.includes(c.id)} isDisabled={bench.working}
                  onChange={(on) => bench.cast({ performer_id: a.performer_id, before: a.character_ids, character_ids: on ? [...a.character_ids, c.id] : a.character_ids.filter((id) => id !== c.id) })}>
                  {c.name}
                </Tick>
              ))}
              <WordButton isDisabled={bench.working} onPress={() => bench.cast({ performer_id: a.performer_id, before: a.character_ids, character_ids: null })}>as Cast says</WordButton>
            </div>
          ))}
          <Quiet style={{ display: 'block', marginTop: 8 }}>What is new is retargeted at once. Cast says it for the whole production.</Quiet>
        </Sheet>
      </Popover>
    </DialogTrigger>
  );
}
