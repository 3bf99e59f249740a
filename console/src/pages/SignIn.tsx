import { useEffect, useState } from "react";
import styled from "styled-components";

import { api, useApi, useChange } from "../api/client";
import { Button, Field, Notice, Problem, Sheet, Soft } from "../parts";

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

/** Why somebody who was away to sign in is not signed in. */
const NOT_SIGNED_IN: Record<string, string> = {
  other: "That was not what this browser was sent away for, or it was too long ago. Try again.",
  denied: "It was refused there.",
  unproven: "What the provider says of you does not hold. The service’s log says why.",
  "no-account": "Nobody has made an account for you here. Ask an administrator.",
  "no-role": "You are in no group that may use this console. Ask an administrator.",
  taken: "The account of your name is not yours, as far as is known here. Ask an administrator.",
};

function whyNot(): string {
  const why = /^#not-signed-in=([a-z-]+)$/.exec(window.location.hash)?.[1];
  return (why && NOT_SIGNED_IN[why]) ?? "";
}

export function SignIn() {
  const openid = useApi("GET /api/session/ways").data?.openid;
  const not = whyNot();
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
          {not && (
            <Notice $tone="warn" role="alert">
              {not}
            </Notice>
          )}
          {openid && <a href="/api/session/openid">Sign in by {openid}</a>}
        </Form>
      </Sheet>
    </Middle>
  );
}
