import { useState } from "react";

import { api, useApi, useChange } from "../api/client";
import type { ConsumerView, KeyView } from "../api/schema";
import { Button, Code, Field, Loaded, Notice, Page, Problem, RowOf, Sheet, Soft, Table, Tag } from "../parts";
import { time } from "../parts/format";
import { useTitle } from "../parts/title";

function KeyState({ k }: { k: KeyView }) {
  const [now] = useState(() => Date.now());
  if (k.ends_at && k.ends_at <= now) return <Tag>ended {time(k.ends_at)}</Tag>;
  if (k.paused) return <Tag $tone="warn">paused</Tag>;
  return <Tag $tone="good">{k.ends_at ? `until ${time(k.ends_at)}` : "good"}</Tag>;
}

function OneConsumer({ consumer }: { consumer: ConsumerView }) {
  const [label, setLabel] = useState("");
  const make = useChange(() =>
    api("POST /api/consumers/{consumer}/keys", { path: { consumer: consumer.name }, body: { label } }),
  );
  const pause = useChange((paused: boolean) =>
    api("PUT /api/consumers/{consumer}/pause", { path: { consumer: consumer.name }, body: { paused } }),
  );
  const change = useChange((c: { prefix: string; ends_at?: number; paused?: boolean }) =>
    api("PUT /api/keys/{prefix}", { path: { prefix: c.prefix }, body: { ends_at: c.ends_at, paused: c.paused } }),
  );
  const error = make.error ?? pause.error ?? change.error;
  return (
    <Sheet aria-label={consumer.name}>
      <RowOf>
        <h2>{consumer.name}</h2>
        <Soft>{consumer.owner}</Soft>
        {consumer.paused && <Tag $tone="warn">paused</Tag>}
        <Button $kind={consumer.paused ? undefined : "bad"} onPress={() => pause.mutate(!consumer.paused)}>
          {consumer.paused ? "Resume" : "Pause: all its keys are refused"}
        </Button>
      </RowOf>
      <Table
        label={`Keys of ${consumer.name}`}
        head={["Key", "Label", "Made", "State", ""]}
        empty="It has no key yet."
        rows={consumer.keys.map((k) => ({
          key: k.prefix,
          cells: [
            <code key="p">{k.prefix}…</code>,
            k.label,
            time(k.created_at),
            <KeyState key="s" k={k} />,
            <RowOf key="a">
              <Button
                aria-label={`${k.paused ? "Resume" : "Pause"} ${k.prefix}`}
                onPress={() => change.mutate({ prefix: k.prefix, paused: !k.paused })}
              >
                {k.paused ? "Resume" : "Pause"}
              </Button>
              <Button
                $kind="bad"
                aria-label={`End for good: ${k.prefix}`}
                onPress={() => change.mutate({ prefix: k.prefix, ends_at: 0 })}
              >
                End for good
              </Button>
            </RowOf>,
          ],
        }))}
      />
      <RowOf>
        <Field label="Label of a new key" value={label} onChange={setLabel} />
        <Button onPress={() => make.mutate(undefined)} style={{ alignSelf: "end" }}>
          Make a key
        </Button>
      </RowOf>
      {make.data?.key && (
        <Notice $tone="accent">
          This is the only time the key is shown whole. Older keys stay good until you end them.
          <Code>{make.data.key}</Code>
        </Notice>
      )}
      {error && <Problem error={error} />}
    </Sheet>
  );
}

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
