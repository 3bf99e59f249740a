import { useState } from "react";

import { api, useApi, useChange } from "../../api/client";
import { Button, Field, Loaded, Page, Problem, RowOf, Sheet, Soft } from "../../parts";
import { useTitle } from "../../parts/title";
import { OneConsumer } from "./OneConsumer";

export function Consumers() {
  useTitle("Consumers and keys");
  const consumers = useApi("GET /api/consumers");
  const [name, setName] = useState("");
  const create = useChange(() => api("POST /api/consumers", { body: { name, owner: "" } }));
  return (
    <Page>
      <h1>Consumers and keys</h1>
      <Sheet>
        <RowOf>
          <Field label="Name of a new consumer" value={name} onChange={setName} />
          <Button
            $kind="main"
            isDisabled={!name.trim()}
            onPress={() => create.mutate(undefined, { onSuccess: () => setName("") })}
            style={{ alignSelf: "end" }}
          >
            Register
          </Button>
        </RowOf>
        {create.error && <Problem error={create.error} />}
      </Sheet>
      <Loaded of={consumers}>
        {(list) =>
          list.length === 0 ? (
            <Soft>Nobody is registered yet.</Soft>
          ) : (
            list.map((c) => <OneConsumer key={c.name} consumer={c} />)
          )
        }
      </Loaded>
    </Page>
  );
}
