import { useState } from "react";

import { api, useApi, useChange } from "../api/client";
import type { AccountView } from "../api/schema";
import { Ask, Button, Field, Loaded, Page, Problem, RowOf, Sheet, Table, When } from "../parts";
import { useTitle } from "../parts/title";
import { Role } from "./Role";

/** Who may do what in this console. */
export function Accounts() {
  useTitle("Accounts");
  const accounts = useApi("GET /api/accounts");
  const openid = useApi("GET /api/session/ways").data?.openid;
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [role, setRole] = useState("publisher");
  const make = useChange(() =>
    api("POST /api/accounts", { body: { name: name.trim(), password: password || null, role } }),
  );
  const done = () => {
    setName("");
    setPassword("");
  };
  return (
    <Page>
      <h1>Accounts</h1>
      <Sheet>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate(undefined, { onSuccess: done });
          }}
        >
          <RowOf>
            <Field label="Name of a new account" value={name} onChange={setName} required />
            <Field
              label={openid ? `Password; none: by ${openid} alone` : "Password"}
              type="password"
              autoComplete="new-password"
              value={password}
              onChange={setPassword}
              required={!openid}
            />
            <Role label="Role" value={role} onChange={setRole} />
            <Button
              type="submit"
              $kind="main"
              isDisabled={!name.trim() || (!openid && !password)}
              style={{ alignSelf: "end" }}
            >
              Make
            </Button>
          </RowOf>
        </form>
        {make.error && <Problem error={make.error} />}
        <Loaded of={accounts}>{(list) => <AccountTable list={list} />}</Loaded>
      </Sheet>
    </Page>
  );
}

function AccountTable({ list }: { list: AccountView[] }) {
  const change = useChange((c: { name: string; role: string }) =>
    api("PATCH /api/accounts/{name}", { path: { name: c.name }, body: { role: c.role } }),
  );
  const end = useChange((name: string) => api("DELETE /api/accounts/{name}", { path: { name } }));
  const out = useChange((name: string) =>
    api("DELETE /api/accounts/{name}/sessions", { path: { name }, query: { tokens: true } }),
  );
  const error = change.error ?? end.error ?? out.error;
  return (
    <>
      {error && <Problem error={error} />}
      <Table
        label="Accounts"
        head={["Account", "Role", "Since", ""]}
        empty="There is no account."
        rows={list.map((a) => ({
          key: a.name,
          worth: [a.name, a.role, a.created_at],
          cells: [
            a.name,
            <Role
              key="r"
              label={`Role of ${a.name}`}
              hidden
              value={a.role}
              onChange={(role) => change.mutate({ name: a.name, role })}
            />,
            <When key="w" at={a.created_at} />,
            <RowOf key="e">
              <Ask
                label="Sign out"
                name={`Sign out ${a.name}`}
                title={`End all sessions of ${a.name}?`}
                onYes={() => out.mutate(a.name)}
              >
                The tokens of their machines end too. They can sign in again.
              </Ask>
              <Ask
                label="End"
                name={`End ${a.name}`}
                title={`End the account ${a.name}?`}
                onYes={() => end.mutate(a.name)}
              >
                Its sessions and tokens are over at once, and nobody can sign in by that name. What it changed stays.
              </Ask>
            </RowOf>,
          ],
        }))}
      />
    </>
  );
}
