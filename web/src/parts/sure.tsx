import { DialogTrigger, Popover } from 'react-aria-components';
import { PlainButton, WordButton } from './controls';
import { Sheet } from './sheet';

/** A word that asks once more before something is done that is hard, or impossible, to undo. */
export function Sure({ words, label, question, yes, onYes, isDisabled }: {
  words: string; label: string; question: string; yes: string; onYes: () => void; isDisabled?: boolean;
}) {
  return (
    <DialogTrigger>
      <WordButton aria-label={label} isDisabled={isDisabled}>{words}</WordButton>
      <Popover placement="bottom end">
        <Sheet aria-label={label} style={{ width: 300 }}>
          {({ close }) => (
            <>
              <p style={{ margin: '0 0 10px', overflowWrap: 'anywhere' }}>{question}</p>
              <PlainButton onPress={() => { close(); onYes(); }} autoFocus>{yes}</PlainButton>{' '}
              <span style={{ marginLeft: 12 }}><WordButton onPress={close}>No, leave it</WordButton></span>
            </>
          )}
        </Sheet>
      </Popover>
    </DialogTrigger>
  );
}
