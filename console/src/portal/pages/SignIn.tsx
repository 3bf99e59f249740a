import { useState } from "react";
import { Link, Navigate, useLocation } from "react-router";

import { Button, Field, Notice, Problem, RowOf, Sheet, Soft } from "../../parts";
import { api, useApi, useChange } from "../client";
import { Content, Form } from "../parts/Sheets";
import { useTitle } from "../parts/title";

/** Why nobody is signed in who came back from elsewhere. */
const NOT_SIGNED_IN: Record<string, string> = {
  other: "That was not what this browser was sent away for, or too long ago. Begin again.",
  denied: "It was refused there.",
  unproven: "What came back does not hold. Whoever looks after this portal finds why in its log.",
  "no-address": "The provider does not say that your e-mail address is yours, so there is no account to find.",
  taken: "There is an account of this address already, which is not signed in to that way. Use its password.",
  invited: "Accounts are made by invitation: ask somebody of your team.",
  paused: "This account is paused.",
};

export function SignIn() {
  useTitle("Sign in");
  const session = useApi("GET /api/session");
  const portal = useApi("GET /api/portal");
  const ways = useApi("GET /api/session/ways");
  const why = NOT_SIGNED_IN[useLocation().hash.replace("#not-signed-in=", "")];
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const begin = useChange(() => api("POST /api/session", { body: { email, password, code } }));
  const asked = begin.error?.needs === "code" || code !== "";
  if (session.data) return <Navigate to="/applications" replace />;
  return (
    <Content narrow>
      <h1>Sign in</h1>
      {why && (
        <Notice $tone="bad" role="alert">
          {why}
        </Notice>
      )}
      <Sheet>
        <Form onSend={() => begin.mutate(undefined)}>
          <Field label="E-mail address" value={email} onChange={setEmail} type="email" autoComplete="username" />
          <Field
            label="Password"
            value={password}
            onChange={setPassword}
            type="password"
            autoComplete="current-password"
          />
          {asked && (
            <div>
              <Field
                label="Code of your authenticator"
                value={code}
                onChange={setCode}
                autoComplete="one-time-code"
                autoFocus
              />
              <Soft>Or one of the codes that you kept, each good once.</Soft>
            </div>
          )}
          <RowOf>
            <Button type="submit" $kind="main" isDisabled={begin.isPending || !email || !password || (asked && !code)}>
              Sign in
            </Button>
            <Link to="/forgotten">Another password</Link>
            {portal.data?.sign_up && <Link to="/sign-up">Sign up</Link>}
          </RowOf>
          {begin.error && <Problem error={begin.error} />}
        </Form>
        {ways.data?.openid && (
          <p>
            <a href="/api/session/openid">Sign in with {ways.data.openid}</a>
          </p>
        )}
      </Sheet>
    </Content>
  );
}
