import type { ReactNode } from 'react';
import { Button, Form, Input, Label, TextArea, TextField, type ButtonProps, type TextFieldProps } from 'react-aria-components';
import styled, { css } from 'styled-components';

const focus = css`
  outline: none;
  &[data-focus-visible] {
    outline: 2px solid ${(p) => p.theme.selection};
    outline-offset: 2px;
  }
`;

export const PlainButton = styled(Button)`
  ${focus}
  font: inherit;
  color: ${(p) => p.theme.text};
  background: transparent;
  border: 1px solid ${(p) => p.theme.quiet};
  border-radius: 3px;
  padding: 4px 12px;
  min-height: 28px;
  cursor: pointer;
  white-space: nowrap;
  &[data-hovered] {
    border-color: ${(p) => p.theme.text};
  }
  &[data-disabled] {
    color: ${(p) => p.theme.quiet};
    border-color: ${(p) => p.theme.hairline};
    cursor: default;
  }
`;

export const MainButton = styled(PlainButton)`
  background: ${(p) => p.theme.selection};
  border-color: ${(p) => p.theme.selection};
  color: ${(p) => p.theme.onSelection};
  &[data-disabled] {
    background: transparent;
  }
`;

export const BigButton = styled(PlainButton)`
  min-height: 56px;
  min-width: 110px;
  font-size: ${(p) => p.theme.size.large};
`;

export const WordButton = styled(Button)<{ $on?: boolean }>`
  ${focus}
  font: inherit;
  background: none;
  border: 0;
  border-bottom: 1px dotted ${(p) => (p.$on ? p.theme.selection : p.theme.quiet)};
  color: ${(p) => (p.$on ? p.theme.selection : p.theme.text)};
  padding: 2px 0;
  cursor: pointer;
  white-space: nowrap;
  &[data-disabled] {
    color: ${(p) => p.theme.quiet};
    border-bottom-color: transparent;
    cursor: default;
  }
`;

/** How everything that is typed into or chosen from looks. */
export const fieldLook = css`
  font: inherit;
  color: ${(p) => p.theme.text};
  background: ${(p) => p.theme.ground};
  border: 1px solid ${(p) => p.theme.quiet};
  border-radius: 3px;
`;

/** A table of hairlines with quiet heads. */
export const tableLook = css`
  border-collapse: collapse;
  width: 100%;
  th {
    text-align: left;
    font-weight: normal;
    color: ${(p) => p.theme.quiet};
    font-size: 12px;
  }
  td,
  th {
    border-bottom: 1px solid ${(p) => p.theme.hairline};
  }
`;

/** Fields in one line that wraps, for adding something where it will appear. */
export const FormLine = styled(Form)`
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
  align-items: end;
  margin: 0 0 14px;
`;

const Field = styled(TextField)`
  display: grid;
  gap: 4px;
  label {
    color: ${(p) => p.theme.quiet};
    font-size: ${(p) => p.theme.size.small};
  }
  input,
  textarea {
    ${fieldLook}
    padding: 5px 8px;
    min-width: 0;
    &[data-focused] {
      outline: 2px solid ${(p) => p.theme.selection};
      outline-offset: 1px;
    }
  }
`;

export function TextInput({ label, lines, type, placeholder, ...rest }: TextFieldProps & { label: string; lines?: number; type?: string; placeholder?: string }) {
  return (
    <Field {...rest}>
      <Label>{label}</Label>
      {lines ? <TextArea rows={lines} /> : <Input type={type} placeholder={placeholder} />}
    </Field>
  );
}

export type { ButtonProps };

export const Figure = styled.span`
  font-family: ${(p) => p.theme.mono};
  font-variant-numeric: tabular-nums;
`;

export const Quiet = styled.span`
  color: ${(p) => p.theme.quiet};
`;

const Bar = styled.div`
  height: 4px;
  background: ${(p) => p.theme.hairline};
  > div {
    height: 100%;
    background: ${(p) => p.theme.selection};
  }
`;

export function Progress({ value, words }: { value: number; words: string }) {
  return (
    <Bar role="progressbar" aria-label={words} aria-valuenow={Math.round(value * 100)} aria-valuemin={0} aria-valuemax={100}>
      <div style={{ width: `${Math.round(value * 100)}%` }} />
    </Bar>
  );
}

const Sentence = styled.p`
  margin: 0;
  padding: 8px 12px;
  border-left: 3px solid ${(p) => p.theme.wrong};
  background: ${(p) => p.theme.raised};
`;

/** One clear sentence; children: what can be done about it. */
export function Trouble({ error, children }: { error: unknown; children?: ReactNode }) {
  if (!error) return null;
  return <Sentence role="alert">{error instanceof Error ? error.message : String(error)}{children}</Sentence>;
}

export const Empty = styled.div`
  padding: 28px;
  border: 1px dashed ${(p) => p.theme.quiet};
  color: ${(p) => p.theme.quiet};
  h2 {
    margin: 0 0 6px;
    font-size: ${(p) => p.theme.size.large};
    font-weight: normal;
    color: ${(p) => p.theme.text};
  }
  p {
    margin: 0 0 10px;
  }
`;
