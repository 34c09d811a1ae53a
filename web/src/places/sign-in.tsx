import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { Form } from 'react-aria-components';
import styled, { ThemeProvider } from 'styled-components';
import { post, type Me } from '../api/client';
import { MainButton, TextInput, Trouble } from '../parts/controls';
import { Global } from '../parts/frame';
import { night } from '../theme';

const Wrap = styled.main`
  min-height: 100%;
  display: grid;
  place-items: center;
  background: linear-gradient(${(p) => p.theme.hairline}, ${(p) => p.theme.hairline}) 0 62% / 100% 1px no-repeat;
`;

const Panel = styled.div`
  width: 360px;
  background: ${(p) => p.theme.ground};
  padding: 8px 24px 24px;
  h1 {
    font-size: 30px;
    margin: 0;
    letter-spacing: 0.01em;
  }
  p {
    color: ${(p) => p.theme.quiet};
    margin: 2px 0 22px;
  }
  form {
    display: grid;
    gap: 14px;
  }
`;

/** The page before everything: what it is, and a form. */
export function Door({ words, children }: { words: string; children: ReactNode }) {
  return (
    <ThemeProvider theme={night}>
      <Global />
      <Wrap>
        <Panel>
          <h1>Otrevo</h1>
          <p>{words}</p>
          {children}
        </Panel>
      </Wrap>
    </ThemeProvider>
  );
}

export function SignIn() {
  const client = useQueryClient();
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const enter = useMutation({
    mutationFn: () => post<Me>('/sign-in', { name, password }),
    onSuccess: (me) => client.setQueryData(['me'], me),
  });
  return (
    <Door words="From the stage floor to the animator’s desk.">
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <TextInput label="Name" value={name} onChange={setName} autoFocus isRequired />
        <TextInput label="Password" type="password" value={password} onChange={setPassword} isRequired />
        <MainButton type="submit" isDisabled={enter.isPending}>
          {enter.isPending ? 'Signing in…' : 'Sign in'}
        </MainButton>
        <Trouble error={enter.error} />
      </Form>
    </Door>
  );
}
