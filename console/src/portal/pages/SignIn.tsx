import { useState } from "react";
import { Link, Navigate } from "react-router";

import { Button, Field, Problem, RowOf, Sheet } from "../../parts";
import { api, useApi, useChange } from "../client";
import { Content } from "../parts/Sheets";
import { useTitle } from "../parts/title";

export function SignIn() {
  useTitle("Sign in");
  const session = useApi("GET /api/session");
  const portal = useApi("GET /api/portal");
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const begin = useChange(() => api("POST /api/session", { body: { email, password } }));
  if (session.data) return <Navigate to="/applications" replace />;
  return (
    <Content narrow>
      <h1>Sign in</h1>
      <Sheet>
        <form
          style={{ display: "grid", gap: "var(--space-3)" }}
          onSubmit={(e) => {
            e.preventDefault();
            begin.mutate(undefined);
          }}
        >
          <Field label="E-mail address" value={email} onChange={setEmail} type="email" autoComplete="username" />
          <Field
            label="Password"
            value={password}
            onChange={setPassword}
            type="password"
            autoComplete="current-password"
          />
          <RowOf>
            <Button type="submit" $kind="main" isDisabled={begin.isPending || !email || !password}>
              Sign in
            </Button>
            <Link to="/forgotten">Another password</Link>
            {portal.data?.sign_up && <Link to="/sign-up">Sign up</Link>}
          </RowOf>
          {begin.error && <Problem error={begin.error} />}
        </form>
      </Sheet>
    </Content>
  );
}
