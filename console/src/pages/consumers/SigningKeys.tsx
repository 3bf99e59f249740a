import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { ConsumerView } from "../../api/schema";
import { Area, Ask, Button, Field, Problem, RowOf, Sheet, Soft, Table, When } from "../../parts";

/** Keys that a consumer signs requests with. */
export function SigningKeys({ consumer }: { consumer: ConsumerView }) {
  const [keyid, setKeyid] = useState("");
  const [key, setKey] = useState("");
  const make = useChange(() =>
    api("POST /api/consumers/{consumer}/signing-keys", {
      path: { consumer: consumer.name },
      body: { keyid, public_key: key },
    }),
  );
  const remove = useChange((of: string) => api("DELETE /api/signing-keys/{keyid}", { path: { keyid: of } }));
  const error = make.error ?? remove.error;
  return (
    <Sheet aria-label="Signing keys">
      <h2>Keys that it signs with</h2>
      <Table
        label={`Signing keys of ${consumer.name}`}
        head={["Key", "Kind", "Made", "Used", ""]}
        empty="It signs nothing."
        rows={consumer.signing_keys.map((k) => ({
          key: k.keyid,
          cells: [
            <code key="k">{k.keyid}</code>,
            k.kind === "shared" ? "a shared secret" : k.kind,
            <When key="w" at={k.created_at} />,
            k.last_used_at ? <When key="u" at={k.last_used_at} /> : <Soft key="u">never</Soft>,
            <Ask
              key="a"
              label="Take away"
              name={`Take away ${k.keyid}`}
              title={`Take the key ${k.keyid} away?`}
              onYes={() => remove.mutate(k.keyid)}
            >
              Calls of {consumer.name} that are signed with it get 401 from now on.
            </Ask>,
          ],
        }))}
      />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined, {
            onSuccess: () => {
              setKeyid("");
              setKey("");
            },
          });
        }}
      >
        <Field label="What the key is known by (keyid)" value={keyid} onChange={setKeyid} />
        <label style={{ display: "grid", gap: 2 }}>
          <small>Public key, in PEM or as a JSON Web Key</small>
          <Area value={key} onChange={(e) => setKey(e.target.value)} rows={4} spellCheck={false} />
        </label>
        <RowOf>
          <Button type="submit" isDisabled={!keyid.trim() || !key.trim()}>
            Take the key
          </Button>
        </RowOf>
      </form>
      {error && <Problem error={error} />}
    </Sheet>
  );
}
