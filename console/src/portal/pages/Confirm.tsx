import { useState } from "react";
import { Link, Navigate, useLocation } from "react-router";

import { Button, Field, Problem, RowOf, Sheet } from "../../parts";
import { api, useChange } from "../client";
import { Content } from "../parts/Sheets";
import { useTitle } from "../parts/title";

export function Confirm() {
  useTitle("Confirm your address");
  const token = useLocation().hash.slice(1);
  const [password, setPassword] = useState("");
  const confirm = useChange(() => api("POST /api/confirm", { body: { token, password } }));
  if (confirm.isSuccess) return <Navigate to="/applications" replace />;
  return (
    <Content narrow>
      <h1>Confirm your address</h1>
      <Sheet>
        <form
          style={{ display: "grid", gap: "var(--space-3)" }}
          onSubmit={(e) => {
            e.preventDefault();
            confirm.mutate(undefined);
          }}
        >
          <Field
            label="The password that you chose"
            value={password}
            onChange={setPassword}
            type="password"
            autoComplete="current-password"
          />
          <RowOf>
            <Button type="submit" $kind="main" isDisabled={confirm.isPending || !password || !token}>
              Confirm and sign in
            </Button>
            <Link to="/forgotten">Another password</Link>
          </RowOf>
          {!token && <p>Open the link of the letter: it says which address is meant.</p>}
          {confirm.error && <Problem error={confirm.error} />}
        </form>
      </Sheet>
    </Content>
  );
}
