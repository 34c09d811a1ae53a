import { useQuery } from '@tanstack/react-query';
import { Dialog, DialogTrigger, Popover } from 'react-aria-components';
import styled, { useTheme } from 'styled-components';
import { get, type Schemas } from '../api/client';
import { Figure, Quiet, Trouble, WordButton } from './controls';

const List = styled.ol`
  list-style: none;
  margin: 8px 0 0;
  padding: 0;
  max-height: 320px;
  overflow-y: auto;
  li {
    display: grid;
    grid-template-columns: 118px 80px 1fr;
    gap: 12px;
    padding: 3px 0;
    border-top: 1px solid ${(p) => p.theme.hairline};
  }
`;

function Changes({ takeId }: { takeId: number }) {
  const rows = useQuery({ queryKey: ['changes', takeId], queryFn: () => get<Schemas['ChangeOut'][]>(`/takes/${takeId}/changes`), staleTime: 0 });
  if (rows.isPending) return <Quiet>Fetching…</Quiet>;
  if (rows.isError) return <Trouble error={rows.error} />;
  if (rows.data.length === 0) return <Quiet>Nothing has been changed since the roll.</Quiet>;
  return (
    <List>
      {rows.data.map((c, i) => (
        <li key={i} style={c.undone ? { textDecoration: 'line-through', opacity: 0.6 } : undefined}>
          <Figure style={{ fontSize: 12 }}>{new Date(c.at).toLocaleString('en-GB', { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit', second: '2-digit' })}</Figure>
          <Quiet>{c.by}</Quiet>
          <span>{c.words}</span>
        </li>
      ))}
    </List>
  );
}

/** What was changed on a take, by whom, newest first; undone changes are struck through. */
export function History({ takeId, takeNumber }: { takeId: number; takeNumber: number }) {
  const theme = useTheme();
  return (
    <DialogTrigger>
      <WordButton>History</WordButton>
      <Popover placement="top">
        <Dialog
          aria-label={`History of take ${takeNumber}`}
          style={{ background: theme.raised, color: theme.text, border: `1px solid ${theme.quiet}`, padding: '12px 16px', width: 460, fontFamily: theme.sans, fontSize: theme.size.body, outline: 'none' }}
        >
          <strong>History of take {takeNumber}</strong>
          <div><Changes takeId={takeId} /></div>
        </Dialog>
      </Popover>
    </DialogTrigger>
  );
}
