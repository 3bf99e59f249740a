import { useState } from "react";
import { useNavigate } from "react-router";

import { Ask, Button, Field, Loaded, Notice, Problem, RowOf, Sheet, Soft } from "../../parts";
import { api, useApi, useChange } from "../client";
import { SignedIn } from "../parts/SignedIn";
import { Content } from "../parts/Sheets";
import { useTitle } from "../parts/title";

export function AccountPage() {
  useTitle("Your account");
  return (
    <Content narrow>
      <h1>Your account</h1>
      <SignedIn>
        <Who />
        <Password />
        <Data />
      </SignedIn>
    </Content>
  );
}

function Who() {
  const session = useApi("GET /api/session");
  return (
    <Loaded of={session}>
      {(s) => (
        <Sheet>
          <p>
            {s.name}, {s.email}
          </p>
          <Soft>
            Team {s.team}
            {s.roles.length > 0 && `, with the roles ${s.roles.join(", ")}`}
          </Soft>
        </Sheet>
      )}
    </Loaded>
  );
}

function Password() {
  const [old, setOld] = useState("");
  const [other, setOther] = useState("");
  const change = useChange(() => api("PUT /api/account/password", { body: { old, new: other } }));
  return (
    <Sheet aria-label="Password">
      <h2>Password</h2>
      <form
        style={{ display: "grid", gap: "var(--space-3)" }}
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate(undefined, {
            onSuccess: () => {
              setOld("");
              setOther("");
            },
          });
        }}
      >
        <Field label="Old password" value={old} onChange={setOld} type="password" autoComplete="current-password" />
        <Field label="New password" value={other} onChange={setOther} type="password" autoComplete="new-password" />
        <RowOf>
          <Button type="submit" isDisabled={change.isPending || !old || !other}>
            Change it
          </Button>
        </RowOf>
        {change.isSuccess && (
          <Notice $tone="accent" role="status">
            It is changed. Every other session has ended.
          </Notice>
        )}
        {change.error && <Problem error={change.error} />}
      </form>
    </Sheet>
  );
}

function Data() {
  const go = useNavigate();
  const [password, setPassword] = useState("");
  const leave = useChange(() => api("DELETE /api/account", { body: { password } }));
  return (
    <Sheet aria-label="Your data">
      <h2>Your data</h2>
      <p>
        <a href="/api/account/data" download="account.json">
          All that is kept of you and your team, in JSON
        </a>
      </p>
      <Field
        label="Your password, to delete the account"
        value={password}
        onChange={setPassword}
        type="password"
        autoComplete="current-password"
      />
      <RowOf>
        <Ask
          label="Delete the account"
          title="Delete your account?"
          isDisabled={!password}
          onYes={() => leave.mutate(undefined, { onSuccess: () => go("/") })}
        >
          Where nobody else is of your team, its applications and keys go too: calls with them get 401 from now on.
        </Ask>
      </RowOf>
      {leave.error && <Problem error={leave.error} />}
    </Sheet>
  );
}
