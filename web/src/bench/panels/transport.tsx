import styled, { ThemeProvider } from 'styled-components';
import { Figure, PlainButton, Quiet, WordButton } from '../../parts/controls';
import { History } from '../../parts/history';
import { night } from '../../theme';
import type { BenchPanel } from './contract';

const Foot = styled.div`
  display: flex;
  gap: 16px;
  align-items: center;
  padding: 4px 14px;
  border-top: 1px solid ${(p) => p.theme.hairline};
  min-height: 34px;
  flex: none;
  white-space: nowrap;
`;

/** Playing, in and out, undo and what came of it. */
export const transportPanel: BenchPanel = {
  id: 'transport',
  name: 'The transport',
  side: 'foot',
  Show: ({ bench }) => {
    const { data, transport, labelOf, range, duration } = bench;
    const take = data.take;
    return (
      <Foot>
        <PlainButton onPress={() => transport.toggle()} aria-label="Play or stop">▶ / ■</PlainButton>
        <WordButton onPress={bench.setIn}>Set in</WordButton>
        <Figure>{labelOf(take.in_s)}</Figure>
        <WordButton onPress={bench.setOut}>Set out</WordButton>
        <Figure>{labelOf(take.out_s)}</Figure>
        <WordButton onPress={bench.showAll} isDisabled={range.from <= 0 && range.to >= duration}>Whole take</WordButton>
        <WordButton onPress={() => bench.undo(false)}>Undo</WordButton>
        <WordButton onPress={() => bench.undo(true)}>Redo</WordButton>
        <ThemeProvider theme={night}><History takeId={take.id} takeNumber={take.number} /></ThemeProvider>
        <span aria-live="polite" style={{ overflow: 'hidden', textOverflow: 'ellipsis' }}>
          {bench.said && <Quiet>{bench.said}</Quiet>}
          {bench.errors.map((e) => <span role="alert" key={e} style={{ color: night.wrong }}>✕ {e}</span>)}
        </span>
        <span style={{ marginLeft: 'auto' }}><WordButton onPress={() => bench.showKeys(true)}>? keys</WordButton></span>
      </Foot>
    );
  },
};
