import { Dialog } from 'react-aria-components';
import styled from 'styled-components';

/** What opens beside a word of a strip or a view: a few settings or choices. */
export const Sheet = styled(Dialog)`
  background: ${(p) => p.theme.raised};
  color: ${(p) => p.theme.text};
  border: 1px solid ${(p) => p.theme.quiet};
  font-family: ${(p) => p.theme.sans};
  font-size: ${(p) => p.theme.size.body};
  padding: 12px 16px;
  width: 380px;
  max-height: 76vh;
  overflow: auto;
  outline: none;
  label {
    display: grid;
    grid-template-columns: 1fr 76px;
    gap: 4px 12px;
    margin: 10px 0;
  }
  small {
    grid-column: 1 / -1;
    color: ${(p) => p.theme.quiet};
    font-size: 12px;
  }
  input {
    font: inherit;
    font-family: ${(p) => p.theme.mono};
    color: inherit;
    background: ${(p) => p.theme.ground};
    border: 1px solid ${(p) => p.theme.quiet};
    padding: 2px 6px;
  }
`;
