import type { ReactNode } from 'react';
import {
  Button, Checkbox, Label, ListBox, ListBoxItem, Popover, Select, SelectValue, Slider, SliderThumb, SliderTrack, type CheckboxProps, type Key,
} from 'react-aria-components';
import styled from 'styled-components';
import { fieldLook } from './controls';

const Choosing = styled(Select)`
  display: grid;
  gap: 4px;
  min-width: 0;
  .react-aria-Label {
    color: ${(p) => p.theme.quiet};
    font-size: ${(p) => p.theme.size.small};
  }
  button {
    ${fieldLook}
    display: flex;
    justify-content: space-between;
    align-items: center;
    gap: 10px;
    min-height: 30px;
    padding: 3px 8px;
    min-width: 0;
    cursor: pointer;
    outline: none;
    &[data-focus-visible] {
      outline: 2px solid ${(p) => p.theme.selection};
      outline-offset: 1px;
    }
    &[data-disabled] {
      color: ${(p) => p.theme.quiet};
      border-color: ${(p) => p.theme.hairline};
      cursor: default;
    }
    > span:first-child {
      overflow: hidden;
      text-overflow: ellipsis;
      white-space: nowrap;
    }
  }
`;

const Options = styled(Popover)`
  min-width: var(--trigger-width);
  max-height: 340px !important;
  overflow: auto;
  background: ${(p) => p.theme.raised};
  color: ${(p) => p.theme.text};
  border: 1px solid ${(p) => p.theme.quiet};
  border-radius: 3px;
  [role='option'] {
    padding: 6px 10px;
    cursor: pointer;
    outline: none;
    &[data-focused] {
      background: ${(p) => p.theme.picked};
    }
    &[data-selected] {
      box-shadow: inset 3px 0 0 ${(p) => p.theme.selection};
    }
  }
`;

export type Option<Value extends Key> = { id: Value; words: string };

type ChoiceProps<Value extends Key> = {
  /** What is chosen, in words; with `hidden` for those who listen only. */
  label: string;
  hidden?: boolean;
  options: Option<Value>[];
  value: Value | null;
  onChange: (value: Value) => void;
  /** What stands there while nothing is chosen. */
  empty?: string;
  isDisabled?: boolean;
  style?: React.CSSProperties;
};

/** One of several. */
export function Choice<Value extends Key>({ label, hidden, options, value, onChange, empty = 'none', isDisabled, style }: ChoiceProps<Value>) {
  return (
    <Choosing value={value} onChange={(key) => key !== null && onChange(key as Value)} isDisabled={isDisabled} style={style} placeholder={empty}
      aria-label={hidden ? label : undefined}>
      {!hidden && <Label>{label}</Label>}
      <Button><SelectValue /><span aria-hidden="true">▾</span></Button>
      <Options>
        <ListBox items={options}>{(o) => <ListBoxItem id={o.id} textValue={o.words}>{o.words}</ListBoxItem>}</ListBox>
      </Options>
    </Choosing>
  );
}

const Ticking = styled(Checkbox)`
  display: flex;
  align-items: center;
  gap: 8px;
  min-height: 30px;
  cursor: pointer;
  outline: none;
  > span {
    width: 16px;
    height: 16px;
    flex: none;
    display: grid;
    place-items: center;
    border: 1px solid ${(p) => p.theme.quiet};
    border-radius: 3px;
    font-size: 12px;
    line-height: 1;
    color: ${(p) => p.theme.onSelection};
  }
  &[data-selected] > span {
    background: ${(p) => p.theme.selection};
    border-color: ${(p) => p.theme.selection};
  }
  &[data-focus-visible] > span {
    outline: 2px solid ${(p) => p.theme.selection};
    outline-offset: 2px;
  }
  &[data-disabled] {
    color: ${(p) => p.theme.quiet};
    cursor: default;
  }
`;

/** Yes or no. */
export function Tick({ children, ...rest }: Omit<CheckboxProps, 'children'> & { children: ReactNode }) {
  return (
    <Ticking {...rest}>
      {({ isSelected }) => <><span aria-hidden="true">{isSelected ? '✓' : ''}</span>{children}</>}
    </Ticking>
  );
}

const Sliding = styled(Slider)`
  width: 100%;
  min-width: 120px;
  [data-track] {
    position: relative;
    height: 22px;
    &::before {
      content: '';
      position: absolute;
      inset: 10px 0;
      background: ${(p) => p.theme.quiet};
      opacity: 0.5;
    }
  }
  [data-thumb] {
    top: 50%;
    width: 10px;
    height: 18px;
    border-radius: 3px;
    background: ${(p) => p.theme.selection};
    outline: none;
    &[data-focus-visible] {
      outline: 2px solid ${(p) => p.theme.text};
      outline-offset: 2px;
    }
  }
`;

type SlideProps = { label: string; value: number; min: number; max: number; step: number; onChange: (value: number) => void; onDone?: (value: number) => void; style?: React.CSSProperties };

/** A number on a line; onDone: when it is let go. */
export function Slide({ label, value, min, max, step, onChange, onDone, style }: SlideProps) {
  return (
    <Sliding aria-label={label} value={value} minValue={min} maxValue={Math.max(max, min)} step={step} onChange={(v) => onChange(v as number)} onChangeEnd={(v) => onDone?.(v as number)} style={style}>
      <SliderTrack data-track=""><SliderThumb data-thumb="" aria-label={label} /></SliderTrack>
    </Sliding>
  );
}
