import { useState } from "react";
import { Link, useNavigate } from "react-router";

import { Button, Field, Loaded, Problem, RowOf, Sheet, Soft, Table, Tag } from "../../parts";
import { api, useApi, useChange } from "../client";
import { SignedIn } from "../parts/SignedIn";
import { Content } from "../parts/Sheets";
import { useTitle } from "../parts/title";

export function Applications() {
  useTitle("Applications");
  return (
    <Content>
      <h1>Applications</h1>
      <SignedIn>
        <All />
      </SignedIn>
    </Content>
  );
}

function All() {
  const go = useNavigate();
  const applications = useApi("GET /api/applications");
  const [name, setName] = useState("");
  const register = useChange(() => api("POST /api/applications", { body: { name } }));
  return (
    <>
      <Sheet>
        <Loaded of={applications}>
          {(list) => (
            <Table
              label="Applications"
              head={["Application", "Agreements", "#Good keys", ""]}
              empty="You have registered none yet: an application is what calls, and what keys are for."
              rows={list.map((a) => ({
                key: a.name,
                cells: [
                  <Link key="n" to={`/applications/${encodeURIComponent(a.name)}`}>
                    {a.name}
                  </Link>,
                  a.agreements.map((g) => g.offer).join(", ") || <Soft key="a">none</Soft>,
                  a.keys.length,
                  a.paused ? (
                    <Tag key="p" $tone="warn">
                      stopped by the publisher
                    </Tag>
                  ) : (
                    ""
                  ),
                ],
              }))}
            />
          )}
        </Loaded>
      </Sheet>
      <Sheet>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            register.mutate(undefined, { onSuccess: (made) => go(`/applications/${encodeURIComponent(made.name)}`) });
          }}
        >
          <RowOf>
            <Field label="Name of a new application" value={name} onChange={setName} />
            <Button type="submit" $kind="main" isDisabled={!name.trim()} style={{ alignSelf: "end" }}>
              Register
            </Button>
          </RowOf>
        </form>
        {register.error && <Problem error={register.error} />}
      </Sheet>
    </>
  );
}
