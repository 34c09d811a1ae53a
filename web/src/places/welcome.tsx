import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Form } from 'react-aria-components';
import { useNavigate, useParams } from 'react-router';
import { post, type Me } from '../api/client';
import { MainButton, TextInput, Trouble } from '../parts/controls';
import { Door } from './sign-in';

/** Where an invitation leads to: a password is chosen, and one is signed in. */
export function Welcome() {
  const { user, token } = useParams();
  const client = useQueryClient();
  const navigate = useNavigate();
  const [password, setPassword] = useState('');
  const [again, setAgain] = useState('');
  const enter = useMutation({
    mutationFn: () => post<Me>('/welcome', { user_id: Number(user), token, password }),
    onSuccess: (me) => {
      client.removeQueries({ predicate: (query) => query.queryKey[0] !== 'me' }); // somebody else may have been signed in here
      client.setQueryData(['me'], me);
      navigate('/', { replace: true });
    },
  });
  const differs = again !== '' && again !== password;
  return (
    <Door words="Choose a password of 10 characters or more.">
      <Form onSubmit={(e) => { e.preventDefault(); if (password === again) enter.mutate(); }}>
        <TextInput label="Password" type="password" value={password} onChange={setPassword} minLength={10} autoFocus isRequired autoComplete="new-password" />
        <TextInput label="Once more" type="password" value={again} onChange={setAgain} isRequired autoComplete="new-password" />
        <MainButton type="submit" isDisabled={enter.isPending || differs}>{enter.isPending ? 'Signing in…' : 'Begin'}</MainButton>
        {differs && <span role="alert">The two are not the same.</span>}
        <Trouble error={enter.error} />
      </Form>
    </Door>
  );
}
