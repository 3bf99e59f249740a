import { useState } from "react";
import { useNavigate } from "react-router";

import { Ask, Button, Field, Loaded, Notice, Problem, RowOf, Sheet, Soft } from "../../parts";
import { api, useApi, useChange } from "../client";
import { Factor } from "../parts/Factor";
import { Content, Form } from "../parts/Sheets";
import { SignedIn } from "../parts/SignedIn";
import { Team } from "../parts/Team";
import { useTitle } from "../parts/title";
import type { Account } from "../schema";

export function AccountPage() {
  useTitle("Your account");
  const session = useApi("GET /api/session");
  return (
    <Content middle>
      <h1>Your account</h1>
      <SignedIn>
        <Loaded of={session}>
          {(s) =>
            s && (
              <>
                <Who of={s} />
                <Team account={s} />
                {s.password && <Password />}
                <Factor account={s} />
                <Data account={s} />
              </>
            )
          }
        </Loaded>
      </SignedIn>
    </Content>
  );
}

function Who({ of }: { of: Account }) {
  return (
    <Sheet>
      <p>
        {of.name}, {of.email}
      </p>
      <Soft>
        Team {of.team}
        {of.roles.length > 0 && `, with the roles ${of.roles.join(", ")}`}
      </Soft>
    </Sheet>
  );
}

function Password() {
  const [old, setOld] = useState("");
  const [other, setOther] = useState("");
  const change = useChange(() => api("PUT /api/account/password", { body: { old, new: other } }));
  return (
    <Sheet aria-label="Password">
      <h2>Password</h2>
      <Form
        onSend={() =>
          change.mutate(undefined, {
            onSuccess: () => {
              setOld("");
              setOther("");
            },
          })
        }
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
      </Form>
    </Sheet>
  );
}

function Data({ account }: { account: Account }) {
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
      {account.password && (
        <Field
          label="Your password, to delete the account"
          value={password}
          onChange={setPassword}
          type="password"
          autoComplete="current-password"
        />
      )}
      <RowOf>
        <Ask
          label="Delete the account"
          title="Delete your account?"
          isDisabled={account.password && !password}
          onYes={() => leave.mutate(undefined, { onSuccess: () => go("/") })}
        >
          Where nobody else is of your team, its applications and keys go too: calls with them get 401 from now on.
        </Ask>
      </RowOf>
      {leave.error && <Problem error={leave.error} />}
    </Sheet>
  );
}
