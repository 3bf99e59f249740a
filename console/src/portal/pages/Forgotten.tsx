import { useState } from "react";

import { Button, Field, Notice, Problem, RowOf, Sheet } from "../../parts";
import { api, useChange } from "../client";
import { Content } from "../parts/Sheets";
import { useTitle } from "../parts/title";

export function Forgotten() {
  useTitle("Another password");
  const [email, setEmail] = useState("");
  const ask = useChange(() => api("POST /api/forgotten", { body: { email } }));
  return (
    <Content narrow>
      <h1>Another password</h1>
      <Sheet>
        <form
          style={{ display: "grid", gap: "var(--space-3)" }}
          onSubmit={(e) => {
            e.preventDefault();
            ask.mutate(undefined);
          }}
        >
          <Field label="E-mail address" value={email} onChange={setEmail} type="email" autoComplete="username" />
          <RowOf>
            <Button type="submit" $kind="main" isDisabled={ask.isPending || !email}>
              Send me a link
            </Button>
          </RowOf>
          {ask.isSuccess && (
            <Notice $tone="accent" role="status">
              If there is an account with this address, a letter with a link is on its way.
            </Notice>
          )}
          {ask.error && <Problem error={ask.error} />}
        </form>
      </Sheet>
    </Content>
  );
}
