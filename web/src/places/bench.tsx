import { useEffect, useRef, type ReactNode } from 'react';
import { Dialog, Modal, ModalOverlay, Tab, TabList, TabPanel, Tabs } from 'react-aria-components';
import { useParams } from 'react-router';
import styled, { ThemeProvider } from 'styled-components';
import type { Me, RunOut, TakeOut } from '../api/client';
import { panelsAt } from '../bench/panels';
import type { BenchPanel, Side } from '../bench/panels/contract';
import { Splitter, useSplit } from '../bench/splitter';
import { useBench, type BenchState } from '../bench/state';
import { PlainButton, Quiet, Trouble } from '../parts/controls';
import { Frame } from '../parts/frame';
import { KeyList, useKeys, type KeyLine } from '../parts/keys';
import { Panel } from '../parts/panel';
import { useTake } from '../queries/take';
import { night } from '../theme';
import { rateWords } from '../time/timecode';
import type { Transport } from '../time/transport';

const Layout = styled.div`
  display: flex;
  flex-direction: column;
  height: 100%;
  min-height: 0;
`;

const Upper = styled.div`
  display: flex;
  flex: 1;
  min-height: 0;
`;

const Clock = styled.span`
  font-family: ${(p) => p.theme.mono};
  font-size: 24px;
  letter-spacing: 0.01em;
  padding: 8px 16px 0;
  border-left: 1px solid ${(p) => p.theme.hairline};
  white-space: nowrap;
  /* a new text every frame must not lay the whole slate out again */
  flex: none;
  width: 216px;
  contain: strict;
  will-change: contents;
`;

const Sheet = styled(Modal)`
  background: ${night.raised};
  color: ${night.text};
  border: 1px solid ${night.quiet};
  padding: 20px 28px;
  font-family: ${night.sans};
  font-size: ${night.size.body};
`;

const Overlay = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  z-index: 10;
  display: grid;
  place-items: center;
  background: rgb(10 9 16 / 70%);
`;

const Share = styled.div`
  position: relative;
  flex: 1;
  min-width: 0;
  min-height: 0;
`;

function ClockFace({ transport, labelOf }: { transport: Transport; labelOf: (s: number) => string }) {
  const ref = useRef<HTMLSpanElement>(null);
  useEffect(() => transport.subscribe((t) => ref.current && (ref.current.textContent = labelOf(t))), [transport, labelOf]);
  return <Clock ref={ref} aria-label="Timecode" role="timer" />;
}

export function Bench({ me }: { me: Me }) {
  const { production, take: takeParam } = useParams();
  const id = Number(takeParam);
  const { take, runs, working } = useTake(id);
  if (!take.data) {
    return (
      <Frame theme={night} me={me} productionId={Number(production)} benchTake={id} cells={[{ what: 'bench', value: 'take' }]}>
        <div style={{ padding: 24 }}>{take.isError ? <Trouble error={take.error} /> : <Quiet>Fetching the take…</Quiet>}</div>
      </Frame>
    );
  }
  return <Open key={id} me={me} data={take.data} runs={runs} working={working} />;
}

const Tabbed = styled(Tabs)`
  display: flex;
  flex-direction: column;
  height: 100%;
  [role='tablist'] {
    display: flex;
    background: ${night.ground};
    border-left: 1px solid ${night.hairline};
    border-bottom: 1px solid ${night.hairline};
    flex: none;
  }
  [role='tab'] {
    padding: 6px 14px;
    color: ${night.quiet};
    cursor: pointer;
    outline: none;
    &[data-selected] {
      color: ${night.text};
      box-shadow: inset 0 -3px 0 ${night.selection};
    }
    &[data-focus-visible] {
      outline: 2px solid ${night.selection};
      outline-offset: -3px;
    }
  }
  [role='tabpanel'] {
    flex: 1;
    min-height: 0;
    outline: none;
  }
`;

/** The panels of a side, each with its faults kept in it; those that share a place as tabs. */
function Panels({ side, bench }: { side: Side; bench: BenchState }) {
  const strip = side === 'top' || side === 'foot';
  const panels = panelsAt(side).filter(({ isFor }) => !isFor || isFor(bench.data));
  const tabs = panels.filter((panel) => panel.tab);
  const shownOf = ({ name, Show }: BenchPanel): ReactNode => <Panel name={name}><Show bench={bench} /></Panel>;
  const alone = tabs.length > 1 ? panels.filter((panel) => !panel.tab) : panels;
  return (
    <>
      {tabs.length > 1 && (
        <Share>
          <Tabbed>
            <TabList aria-label="Beside the view">{tabs.map((panel) => <Tab key={panel.id} id={panel.id}>{panel.tab}</Tab>)}</TabList>
            {tabs.map((panel) => <TabPanel key={panel.id} id={panel.id}>{shownOf(panel)}</TabPanel>)}
          </Tabbed>
        </Share>
      )}
      {alone.map((panel) => strip ? <div key={panel.id}>{shownOf(panel)}</div> : <Share key={panel.id}>{shownOf(panel)}</Share>)}
    </>
  );
}

function keysOf(bench: BenchState): KeyLine[] {
  const { transport } = bench;
  return [
    { keys: 'space', words: 'play, stop', on: { space: () => transport.toggle() }, leavesButtons: true },
    { keys: 'J K L', words: 'back, stop, forward; again for faster', on: { j: () => transport.shuttle(-1), k: () => transport.stop(), l: () => transport.shuttle(1) } },
    { keys: '← →', words: 'one frame; with shift ten', on: {
      ArrowLeft: () => transport.step(-1), ArrowRight: () => transport.step(1), 'shift+ArrowLeft': () => transport.step(-10), 'shift+ArrowRight': () => transport.step(10),
    } },
    { keys: 'I O', words: 'set the in point, the out point', on: { i: bench.setIn, o: bench.setOut } },
    { keys: '. ,', words: 'next snag, previous snag', on: { '.': () => bench.goTo(Math.min(bench.snag + 1, bench.groups.length - 1)), ',': () => bench.goTo(Math.max(bench.snag - 1, 0)) } },
    { keys: 'Enter', words: 'accept the proposal of the snag', on: { Enter: () => bench.acceptHere(false) }, leavesButtons: true },
    { keys: 'Shift Enter', words: 'accept all like it', on: { 'shift+Enter': () => bench.acceptHere(true) }, leavesButtons: true },
    { keys: 'M', words: 'fill the other way: curve or body', on: { m: bench.otherMethod } },
    { keys: '↑ ↓', words: 'the marker above, below in the matrix', on: { ArrowUp: () => bench.pickRow(-1), ArrowDown: () => bench.pickRow(1) }, leavesButtons: true },
    { keys: 'F', words: 'frame the selected marker', on: { f: () => window.dispatchEvent(new Event('otrevo-frame-selection')) } },
    { keys: 'Z', words: 'show the whole take; ctrl-wheel over the lanes zooms', on: { z: bench.showAll } },
    { keys: 'Ctrl Z, Ctrl Shift Z', words: 'undo, redo', on: { 'ctrl+z': () => bench.undo(false), 'ctrl+shift+z': () => bench.undo(true) } },
    { keys: '?', words: 'this sheet', on: { '?': () => bench.showKeys(true) } },
  ];
}

function Open({ me, data, runs, working }: { me: Me; data: TakeOut; runs: RunOut[]; working: boolean }) {
  const bench = useBench(data, runs, working);
  const { take } = data;
  const keys = keysOf(bench);
  useKeys(bench.keysShown ? [] : keys);
  const lower = useSplit('lanes', 300, 120, 620);
  const side = useSplit('snags', 370, 240, 620);
  return (
    <Frame
      theme={night} me={me} productionId={data.production_id} benchTake={take.id}
      cells={[
        { what: data.production, value: `Day ${data.day}`, whole: true },
        { what: 'slate', value: `${data.slate} ${data.title}` },
        { what: 'take', value: `${take.number} ${take.status === 'circled' ? '◯ circled' : take.status === 'open' ? '' : take.status}`, whole: true },
        { what: 'rate', value: rateWords(data.timecode_rate, data.drop_frame), whole: true },
      ]}
      right={<ThemeProvider theme={night}><ClockFace transport={bench.transport} labelOf={bench.labelOf} /></ThemeProvider>}
    >
      <Layout>
        <Panels side="top" bench={bench} />
        <Upper>
          <Layout style={{ flex: 1, minWidth: 0 }}><Panels side="main" bench={bench} /></Layout>
          <Splitter across={false} size={side.size} onChange={side.change} label="Width of the snag list" />
          <Layout style={{ width: side.size, flex: 'none' }}><Panels side="side" bench={bench} /></Layout>
        </Upper>
        <Splitter across size={lower.size} onChange={lower.change} label="Height of the lanes" />
        <Layout style={{ height: lower.size, flex: 'none' }}><Panels side="below" bench={bench} /></Layout>
        <Panels side="foot" bench={bench} />
      </Layout>
      <Overlay isOpen={bench.keysShown} onOpenChange={bench.showKeys} isDismissable>
        <Sheet>
          <Dialog aria-label="Keys">
            <h2 style={{ margin: 0 }}>Keys</h2>
            <KeyList map={keys} />
            <PlainButton slot="close" autoFocus style={{ color: night.text }}>Close</PlainButton>
          </Dialog>
        </Sheet>
      </Overlay>
    </Frame>
  );
}
