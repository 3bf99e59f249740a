import { useState } from "react";

import { api, useApi, useChange } from "../api/client";
import { Button, Field, Loaded, Notice, Page, Problem, RowOf, Sheet, Soft, Table, When } from "../parts";
import { useTitle } from "../parts/title";

/** The environment's secrets: names are shown, values never. */
export function Secrets() {
  useTitle("Secrets");
  const secrets = useApi("GET /api/secrets");
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const trimmed = value.trim();
  const set = useChange(() => api("PUT /api/secrets", { body: { name: name.trim(), value: trimmed } }));
  return (
    <Page>
      <h1>Secrets</h1>
      <Sheet>
        <Soft>
          Documents name a secret as <code>{"{ secret: NAME }"}</code>. A new value acts at once, without a release.
        </Soft>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            set.mutate(undefined, { onSuccess: () => setValue("") });
          }}
        >
          <RowOf>
            <Field label="Name" value={name} onChange={setName} required />
            <Field label="Value" type="password" autoComplete="off" value={value} onChange={setValue} required />
            <Button
              type="submit"
              $kind="main"
              isDisabled={!name.trim() || !trimmed || set.isPending}
              style={{ alignSelf: "end" }}
            >
              Set
            </Button>
          </RowOf>
        </form>
        {trimmed !== value && <Soft role="status">The white space around the value is left out.</Soft>}
        {set.error && <Problem error={set.error} />}
        {set.data && <Notice $tone="accent">{set.data.name} is set, and acts already.</Notice>}
        <Loaded of={secrets}>
          {(list) => (
            <Table
              label="Secrets"
              head={["Secret", "Changed", "By"]}
              empty="There is no secret yet."
              rows={list.map((s) => ({
                key: s.name,
                worth: [s.name, s.changed_at],
                cells: [<code key="n">{s.name}</code>, <When key="w" at={s.changed_at} />, s.changed_by],
              }))}
            />
          )}
        </Loaded>
      </Sheet>
    </Page>
  );
}
