import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { ConsumerView } from "../../api/schema";
import { Ask, Button, Field, Problem, RowOf, Sheet, Soft, Table, When } from "../../parts";

/** Names that a consumer shows with a password. */
export function Passwords({ consumer }: { consumer: ConsumerView }) {
  const [name, setName] = useState(consumer.name);
  const [password, setPassword] = useState("");
  const set = useChange(() =>
    api("PUT /api/consumers/{consumer}/password", { path: { consumer: consumer.name }, body: { name, password } }),
  );
  const remove = useChange((of: string) => api("DELETE /api/passwords/{name}", { path: { name: of } }));
  const error = set.error ?? remove.error;
  return (
    <Sheet aria-label="Names and passwords">
      <h2>Names and passwords</h2>
      <Table
        label={`Names of ${consumer.name}`}
        head={["Name", "Made", "Used", ""]}
        empty="It shows no name and password."
        rows={consumer.passwords.map((p) => ({
          key: p.name,
          cells: [
            <code key="n">{p.name}</code>,
            <When key="w" at={p.created_at} />,
            p.last_used_at ? <When key="u" at={p.last_used_at} /> : <Soft key="u">never</Soft>,
            <Ask
              key="a"
              label="Take away"
              name={`Take away ${p.name}`}
              title={`Take the name ${p.name} away?`}
              onYes={() => remove.mutate(p.name)}
            >
              Calls of {consumer.name} with this name get 401 from now on.
            </Ask>,
          ],
        }))}
      />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          set.mutate(undefined, { onSuccess: () => setPassword("") });
        }}
      >
        <RowOf>
          <Field label="Name" value={name} onChange={setName} />
          <Field
            label="Password, of at least 12 characters"
            type="password"
            autoComplete="new-password"
            value={password}
            onChange={setPassword}
          />
          <Button type="submit" isDisabled={!name.trim() || password.trim().length < 12} style={{ alignSelf: "end" }}>
            Set the password
          </Button>
        </RowOf>
      </form>
      {error && <Problem error={error} />}
    </Sheet>
  );
}
