import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { ConsumerView } from "../../api/schema";
import { Ask, Button, Field, Problem, RowOf, Sheet, Soft, Table, When } from "../../parts";

/** Clients of issuers whose tokens a consumer shows. */
export function Clients({ consumer }: { consumer: ConsumerView }) {
  const [issuer, setIssuer] = useState("");
  const [client, setClient] = useState("");
  const make = useChange(() =>
    api("POST /api/consumers/{consumer}/clients", { path: { consumer: consumer.name }, body: { issuer, client } }),
  );
  const remove = useChange((name: string) => api("DELETE /api/clients/{name}", { path: { name } }));
  const error = make.error ?? remove.error;
  return (
    <Sheet aria-label="Tokens">
      <h2>Tokens of issuers</h2>
      <Table
        label={`Clients of ${consumer.name}`}
        head={["Client", "Issuer", "Made", "Used", ""]}
        empty="It shows no tokens."
        rows={consumer.clients.map((c) => ({
          key: c.name,
          cells: [
            <code key="c">{c.client}</code>,
            <code key="i">{c.issuer}</code>,
            <When key="w" at={c.created_at} />,
            c.last_used_at ? <When key="u" at={c.last_used_at} /> : <Soft key="u">never</Soft>,
            <Ask
              key="a"
              label="Take away"
              name={`Take away ${c.client}`}
              title={`Take no tokens of ${c.client} any more?`}
              onYes={() => remove.mutate(c.name)}
            >
              Calls of {consumer.name} with its tokens get 403 from now on.
            </Ask>,
          ],
        }))}
      />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined, { onSuccess: () => setClient("") });
        }}
      >
        <RowOf>
          <Field label="Issuer, as its tokens name it" value={issuer} onChange={setIssuer} />
          <Field label="Client, as they name it" value={client} onChange={setClient} />
          <Button type="submit" isDisabled={!issuer.trim() || !client.trim()} style={{ alignSelf: "end" }}>
            Take its tokens
          </Button>
        </RowOf>
      </form>
      {error && <Problem error={error} />}
    </Sheet>
  );
}
