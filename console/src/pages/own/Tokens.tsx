import { useState } from "react";

import { api, useApi, useChange } from "../../api/client";
import type { Session, TokenView } from "../../api/schema";
import { Ask, Button, Code, Copy, Field, Loaded, Notice, Problem, RowOf, Sheet, Soft, Table, When } from "../../parts";
import { Role, rolesUpTo } from "../Role";

/** Tokens with which machines act. */
export function Tokens({ session }: { session: Session }) {
  const tokens = useApi("GET /api/tokens");
  const [label, setLabel] = useState("");
  const [role, setRole] = useState("viewer");
  const [days, setDays] = useState("90");
  const [shown, setShown] = useState("");
  const make = useChange(() => api("POST /api/tokens", { body: { label, role, days: Number(days) } }));
  return (
    <Sheet aria-label="Tokens">
      <h2>Tokens of machines</h2>
      <Soft>
        A pipeline or a script shows one as <code>Authorization: Bearer</code>, or gives it to <code>porch</code> in{" "}
        <code>ELM_PORCH_TOKEN</code>. It acts in your name, may do no more than is said here, and ends.
      </Soft>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined, {
            onSuccess: (made) => {
              setShown(made.token ?? "");
              setLabel("");
            },
          });
        }}
      >
        <RowOf>
          <Field label="What it is for" value={label} onChange={setLabel} required />
          <Role label="May do what a … may" of={rolesUpTo(session.role)} value={role} onChange={setRole} />
          <Field label="Days until it ends" type="number" value={days} onChange={setDays} required />
          <Button type="submit" $kind="main" isDisabled={!label.trim()} style={{ alignSelf: "end" }}>
            Make a token
          </Button>
        </RowOf>
      </form>
      {make.error && <Problem error={make.error} />}
      {shown && (
        <Notice $tone="accent">
          <p>This is the only time that it is shown:</p>
          <Code>{shown}</Code>
          <Copy text={shown} what="the token" />
        </Notice>
      )}
      <Loaded of={tokens}>{(list) => <TokenTable list={list} own={session.name} />}</Loaded>
    </Sheet>
  );
}

function TokenTable({ list, own }: { list: TokenView[]; own: string }) {
  const [now] = useState(() => Date.now());
  const end = useChange((id: number) => api("DELETE /api/tokens/{id}", { path: { id } }));
  return (
    <>
      {end.error && <Problem error={end.error} />}
      <Table
        label="Tokens"
        head={["Token", "What for", "Whose", "May", "Ends", "Used", ""]}
        empty="There is none."
        rows={list.map((t) => {
          const over = t.ends_at < now;
          return {
            key: String(t.id),
            worth: [t.prefix, t.label, t.account, t.role, t.ends_at, t.last_used_at ?? 0],
            cells: [
              <code key="p">{t.prefix}…</code>,
              t.label,
              t.account === own ? "yours" : t.account,
              t.role,
              <span key="e">
                {over && "ended "}
                <When at={t.ends_at} />
              </span>,
              t.last_used_at ? <When key="u" at={t.last_used_at} /> : <Soft key="u">never</Soft>,
              <Ask
                key="a"
                label={over ? "Forget" : "End"}
                name={`${over ? "Forget" : "End"} token ${t.prefix}`}
                title={`End the token “${t.label}”?`}
                onYes={() => end.mutate(t.id)}
              >
                Whatever shows it gets 401 from now on.
              </Ask>,
            ],
          };
        })}
      />
    </>
  );
}
