import { useState } from "react";

import { Area, Ask, Button, Pick, Problem, RowOf, Sheet, Soft, Table, When } from "../../parts";
import { api, useChange } from "../client";
import type { Application } from "../schema";
import { Form } from "./Sheets";

const KINDS: Record<string, string> = {
  signature: "public key",
  certificate: "certificate",
  token: "tokens",
  password: "password",
};

/** Other credentials than keys: public keys that requests are signed with, and certificates. */
export function Credentials({ of }: { of: Application }) {
  const [kind, setKind] = useState("signature");
  const [text, setText] = useState("");
  const path = { application: of.name };
  const add = useChange(() =>
    kind === "signature"
      ? api("POST /api/applications/{application}/signing-keys", { path, body: { public_key: text } })
      : api("POST /api/applications/{application}/certificates", { path, body: { certificate: text } }),
  );
  const end = useChange((c: { kind: string; known_by: string }) =>
    api("DELETE /api/credentials/{kind}/{known_by}", { path: c }),
  );
  const error = add.error ?? end.error;
  return (
    <Sheet aria-label="Other credentials">
      <h2>Other credentials</h2>
      <Table
        label="Other credentials"
        head={["Kind", "Known by", "Since", "Used", ""]}
        empty="It has none: a key is enough unless an API asks for something else."
        rows={of.credentials.map((c) => ({
          key: `${c.kind} ${c.known_by}`,
          cells: [
            KINDS[c.kind] ?? c.kind,
            <code key="k" style={{ overflowWrap: "anywhere" }}>
              {c.known_by}
            </code>,
            <When key="m" at={c.created_at} />,
            c.last_used_at ? <When key="u" at={c.last_used_at} /> : <Soft key="u">never</Soft>,
            c.kind === "signature" || c.kind === "certificate" ? (
              <Ask
                key="a"
                label="End"
                name={`End ${c.known_by}`}
                title={`End this ${KINDS[c.kind]}?`}
                onYes={() => end.mutate({ kind: c.kind, known_by: c.known_by })}
              >
                Calls with it get 401 from now on.
              </Ask>
            ) : (
              ""
            ),
          ],
        }))}
      />
      <Form onSend={() => add.mutate(undefined, { onSuccess: () => setText("") })}>
        <Pick
          label="Add"
          value={kind}
          onChange={setKind}
          choices={[
            ["signature", "a public key that requests are signed with"],
            ["certificate", "a certificate that is shown by TLS"],
          ]}
        />
        <label style={{ display: "grid", gap: 2 }}>
          <Soft>{kind === "signature" ? "The public key, in PEM or as a JWK" : "The certificate, in PEM"}</Soft>
          <Area rows={4} spellCheck={false} value={text} onChange={(e) => setText(e.target.value)} />
        </label>
        <RowOf>
          <Button type="submit" isDisabled={add.isPending || !text.trim()}>
            Add it
          </Button>
        </RowOf>
      </Form>
      <Soft>
        The private key stays with you. Where an API takes tokens, its page says whose: tell the publisher which client
        is yours.
      </Soft>
      {error && <Problem error={error} />}
    </Sheet>
  );
}
