import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { DialogTrigger, Form, Popover } from 'react-aria-components';
import { ThemeProvider } from 'styled-components';
import { post, type Me } from '../api/client';
import { night } from '../theme';
import { MainButton, Quiet, TextInput, Trouble, WordButton } from './controls';
import { Sheet } from './sheet';

/** Changing one's own password, beside one's name. */
export function OwnPassword() {
  const [old, setOld] = useState('');
  const [wanted, setWanted] = useState('');
  const change = useMutation({
    mutationFn: () => post<Me>('/password', { old, new: wanted }),
    onSuccess: () => {
      setOld('');
      setWanted('');
    },
  });
  return (
    <DialogTrigger onOpenChange={() => change.reset()}>
      <WordButton style={{ color: night.quiet, fontSize: 11 }}>password</WordButton>
      <Popover placement="bottom end">
        <ThemeProvider theme={night}>
          <Sheet aria-label="Change your password" style={{ width: 300 }}>
            {change.isSuccess ? (
              <Quiet role="status">Your password is changed. Other places where you were signed in are signed out.</Quiet>
            ) : (
              <Form style={{ display: 'grid', gap: 12 }} onSubmit={(e) => { e.preventDefault(); change.mutate(); }}>
                <TextInput style={{ display: 'grid' }} label="Password now" type="password" value={old} onChange={setOld} isRequired autoFocus autoComplete="current-password" />
                <TextInput label="New password (10 or more)" type="password" value={wanted} onChange={setWanted} isRequired minLength={10} autoComplete="new-password" />
                <MainButton type="submit" isDisabled={change.isPending}>Change it</MainButton>
                <Trouble error={change.error} />
              </Form>
            )}
          </Sheet>
        </ThemeProvider>
      </Popover>
    </DialogTrigger>
  );
}
