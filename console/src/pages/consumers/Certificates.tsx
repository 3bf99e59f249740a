import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { ConsumerView } from "../../api/schema";
import { Area, Ask, Button, Field, Problem, RowOf, Sheet, Soft, Table, When } from "../../parts";

/** Certificates that a consumer shows by TLS. */
export function Certificates({ consumer }: { consumer: ConsumerView }) {
  const [pem, setPem] = useState("");
  const [name, setName] = useState("");
  const make = useChange(() =>
    api("POST /api/consumers/{consumer}/certificates", {
      path: { consumer: consumer.name },
      body: pem.trim() ? { certificate: pem } : { known_by: name },
    }),
  );
  const remove = useChange((of: string) => api("DELETE /api/certificates/{known_by}", { path: { known_by: of } }));
  const error = make.error ?? remove.error;
  return (
    <Sheet aria-label="Certificates">
      <h2>Certificates that it shows</h2>
      <Table
        label={`Certificates of ${consumer.name}`}
        head={["Known by", "Made", "Used", ""]}
        empty="It shows none."
        rows={consumer.certificates.map((c) => ({
          key: c.known_by,
          cells: [
            <code key="k" style={{ overflowWrap: "anywhere" }}>
              {c.known_by}
            </code>,
            <When key="w" at={c.created_at} />,
            c.last_used_at ? <When key="u" at={c.last_used_at} /> : <Soft key="u">never</Soft>,
            <Ask
              key="a"
              label="Take away"
              name={`Take away ${c.known_by}`}
              title={`Take the certificate ${c.known_by} away?`}
              onYes={() => remove.mutate(c.known_by)}
            >
              Calls of {consumer.name} that show it get 401 from now on.
            </Ask>,
          ],
        }))}
      />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined, {
            onSuccess: () => {
              setPem("");
              setName("");
            },
          });
        }}
      >
        <label style={{ display: "grid", gap: 2 }}>
          <small>Certificate, in PEM: it is known by its fingerprint</small>
          <Area value={pem} onChange={(e) => setPem(e.target.value)} rows={4} spellCheck={false} />
        </label>
        <Field
          label="Or a name in it, where a document’s authorities sign: dns:, uri:, email:, ip: or subject:"
          value={name}
          onChange={setName}
        />
        <RowOf>
          <Button type="submit" isDisabled={!pem.trim() === !name.trim()}>
            Take the certificate
          </Button>
        </RowOf>
      </form>
      {error && <Problem error={error} />}
    </Sheet>
  );
}
