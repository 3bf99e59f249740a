import { useEffect, useState } from "react";
import styled from "styled-components";

import { api, useChange } from "../api/client";
import { Button, Field, Problem, Sheet, Soft } from "../parts";

const Middle = styled.main`
  min-height: 100vh;
  display: grid;
  place-content: center;
`;

const Form = styled.form`
  display: grid;
  gap: var(--space-3);
  width: 300px;
`;

export function SignIn() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useChange(() => api("POST /api/session", { body: { name, password, label: "console" } }));
  useEffect(() => {
    document.title = "Sign in · Elm Porch";
  }, []);
  return (
    <Middle>
      <Sheet>
        <h1>Elm Porch</h1>
        <Soft>Sign in to publish, release and look.</Soft>
        <Form
          onSubmit={(e) => {
            e.preventDefault();
            signIn.mutate(undefined);
          }}
        >
          <Field label="Name" value={name} onChange={setName} required autoFocus autoComplete="username" />
          <Field
            label="Password"
            type="password"
            value={password}
            onChange={setPassword}
            required
            autoComplete="current-password"
          />
          {signIn.error && <Problem error={signIn.error} />}
          <Button type="submit" $kind="main" isDisabled={signIn.isPending}>
            Sign in
          </Button>
        </Form>
      </Sheet>
    </Middle>
  );
}
