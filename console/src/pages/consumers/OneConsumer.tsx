import { useState } from "react";
import { useNavigate, useParams } from "react-router";

import { api, useApi, useChange } from "../../api/client";
import type { OneConsumer as Consumer } from "../../api/schema";
import { Ask, Button, Field, Loaded, Page, Problem, RowOf, Sheet, Soft, Table, Tag } from "../../parts";
import { useTitle } from "../../parts/title";
import { Agreements } from "./Agreements";
import { Clients } from "./Clients";
import { Keys } from "./Keys";
import { listed } from "./listed";
import { Passwords } from "./Passwords";
import { Certificates } from "./Certificates";
import { SigningKeys } from "./SigningKeys";

/** One consumer: what it may be, what it shows, what it has agreed to, and what it calls. */
export function OneConsumer() {
  const { consumer = "" } = useParams();
  useTitle(consumer);
  const found = useApi("GET /api/consumers/{consumer}", { path: { consumer } });
  return (
    <Page>
      <h1>{consumer}</h1>
      <Loaded of={found}>
        {(c) => (
          <>
            <Itself consumer={c} />
            <Keys consumer={c} />
            <Passwords consumer={c} />
            <Clients consumer={c} />
            <SigningKeys consumer={c} />
            <Certificates consumer={c} />
            <Agreements consumer={c} />
            <Calls consumer={c} />
          </>
        )}
      </Loaded>
    </Page>
  );
}

function Itself({ consumer }: { consumer: Consumer }) {
  const go = useNavigate();
  const [owner, setOwner] = useState(consumer.owner);
  const [roles, setRoles] = useState(consumer.roles.join(", "));
  const [labels, setLabels] = useState(consumer.labels.join(", "));
  const path = { consumer: consumer.name };
  const change = useChange(() =>
    api("PATCH /api/consumers/{consumer}", { path, body: { owner, roles: listed(roles), labels: listed(labels) } }),
  );
  const bind = useChange((bound: boolean) => api("PATCH /api/consumers/{consumer}", { path, body: { bound } }));
  const pause = useChange((paused: boolean) => api("PUT /api/consumers/{consumer}/pause", { path, body: { paused } }));
  const remove = useChange(() => api("DELETE /api/consumers/{consumer}", { path }));
  const error = change.error ?? bind.error ?? pause.error ?? remove.error;
  const shows =
    consumer.keys.length +
    consumer.passwords.length +
    consumer.clients.length +
    consumer.signing_keys.length +
    consumer.certificates.length;
  return (
    <Sheet aria-label="Itself">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          change.mutate(undefined);
        }}
      >
        <RowOf>
          <Field label="Account that looks after it" value={owner} onChange={setOwner} />
          <Field label="Roles, with commas" value={roles} onChange={setRoles} />
          <Field label="Labels, with commas" value={labels} onChange={setLabels} />
          <Button type="submit" style={{ alignSelf: "end" }}>
            Save
          </Button>
        </RowOf>
      </form>
      <RowOf>
        {consumer.paused ? (
          <>
            <Tag $tone="warn">paused</Tag>
            <Button onPress={() => pause.mutate(false)}>Resume</Button>
          </>
        ) : (
          <Ask
            label="Pause"
            name={`Pause ${consumer.name}`}
            title={`Pause ${consumer.name}?`}
            onYes={() => pause.mutate(true)}
          >
            All that it shows is refused with 401 at once, until you resume it.
          </Ask>
        )}
        {consumer.bound ? (
          <Ask
            label="Let it call everything"
            name={`Let it call everything: ${consumer.name}`}
            title={`Let ${consumer.name} call everything that its credentials open?`}
            onYes={() => bind.mutate(false)}
          >
            It may call what it has agreed to and nothing else until now.
          </Ask>
        ) : (
          <Ask
            label="Bind to agreements"
            name={`Bind to agreements: ${consumer.name}`}
            title={`Bind ${consumer.name} to its agreements?`}
            onYes={() => bind.mutate(true)}
          >
            Whatever no agreement of it opens is refused with 403 at once.
          </Ask>
        )}
        <Ask
          label="Delete"
          name={`Delete ${consumer.name}`}
          title={`Delete ${consumer.name}?`}
          onYes={() => remove.mutate(undefined, { onSuccess: () => go("/consumers") })}
        >
          {shows === 1 ? "Its one credential ends" : `Its ${shows} credentials end`} at once.{" "}
          {consumer.calls.length === 0
            ? "It has called nothing in the last seven days."
            : `In the last seven days it called ${consumer.calls
                .slice(0, 3)
                .map((c) => `${c.facade} / ${c.operation} ${c.calls} times`)
                .join(", ")}.`}{" "}
          This cannot be undone.
        </Ask>
        {change.isSuccess && <Soft role="status">Saved; it acts at once.</Soft>}
      </RowOf>
      {error && <Problem error={error} />}
    </Sheet>
  );
}

function Calls({ consumer }: { consumer: Consumer }) {
  return (
    <Sheet aria-label="Calls">
      <h2>Calls of the last seven days</h2>
      <Table
        label={`Calls of ${consumer.name}`}
        head={["Facade", "Operation", "#Calls"]}
        empty="It has called nothing in the last seven days."
        rows={consumer.calls.map((c) => ({
          key: `${c.facade}/${c.operation}`,
          cells: [c.facade, c.operation, c.calls],
        }))}
      />
    </Sheet>
  );
}
