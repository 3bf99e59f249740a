import { useState } from "react";
import { Link, useLocation } from "react-router";

import { Button, Field, Notice, Problem, RowOf, Sheet, Soft } from "../../parts";
import { api, useChange } from "../client";
import { Content } from "../parts/Sheets";
import { useTitle } from "../parts/title";

export function Reset() {
  useTitle("Set another password");
  const token = useLocation().hash.slice(1);
  const [password, setPassword] = useState("");
  const reset = useChange(() => api("POST /api/reset", { body: { token, password } }));
  return (
    <Content narrow>
      <h1>Set another password</h1>
      <Sheet>
        {reset.isSuccess ? (
          <Notice $tone="accent" role="status">
            It is set. <Link to="/sign-in">Sign in</Link>
          </Notice>
        ) : (
          <form
            style={{ display: "grid", gap: "var(--space-3)" }}
            onSubmit={(e) => {
              e.preventDefault();
              reset.mutate(undefined);
            }}
          >
            <div>
              <Field
                label="New password"
                value={password}
                onChange={setPassword}
                type="password"
                autoComplete="new-password"
              />
              <Soft>At least 12 characters; several words are easy to keep.</Soft>
            </div>
            <RowOf>
              <Button type="submit" $kind="main" isDisabled={reset.isPending || !password || !token}>
                Set it
              </Button>
            </RowOf>
            {reset.error && <Problem error={reset.error} />}
          </form>
        )}
      </Sheet>
    </Content>
  );
}
