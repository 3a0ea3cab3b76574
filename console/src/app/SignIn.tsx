/** Signing in with a token. The service keeps the session in a cookie that no script can read. */
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Input, Label, TextField } from "react-aria-components";
import styled from "styled-components";

import { signIn } from "../api/client";
import { Button, Command, Faint, Failure, Page, Panel, Title } from "../ui/parts";

const Form = styled.form`
  display: grid;
  gap: 12px;
  max-width: 560px;
  input {
    font: inherit;
    width: 100%;
    height: 32px;
    padding: 3px 8px;
    color: inherit;
    background: ${({ theme }) => theme.sheet};
    border: 1px solid ${({ theme }) => theme.faint};
    border-radius: 2px;
  }
  label {
    color: ${({ theme }) => theme.faint};
  }
`;

export function SignIn() {
  const queries = useQueryClient();
  const [token, setToken] = useState("");
  const enter = useMutation({
    mutationFn: () => signIn(token.trim()),
    onSuccess: () => {
      setToken("");
      return queries.resetQueries();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    enter.mutate();
  };
  return (
    <Page id="main">
      <Title>Sign in to Fenetre</Title>
      <Panel aria-label="Sign in">
        <Form onSubmit={submit}>
          <TextField value={token} onChange={setToken} type="password">
            <Label>Token</Label>
            <Input autoComplete="current-password" placeholder="fenetre_…" spellCheck={false} />
          </TextField>
          {enter.error && <Failure error={enter.error} />}
          <div>
            <Button type="submit" isDisabled={token.trim() === "" || enter.isPending}>
              Sign in
            </Button>
          </div>
          <Faint>
            The session ends when you sign out, after 12 hours without use, or when the token ends. To create a token,
            run this on the machine of the service:
          </Faint>
          <Command>fenetre token create NAME --grant read:DATASET --store DIR</Command>
        </Form>
      </Panel>
    </Page>
  );
}
