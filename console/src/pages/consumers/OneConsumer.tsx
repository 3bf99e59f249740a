import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { ConsumerView } from "../../api/schema";
import { Button, Code, Field, Notice, Problem, RowOf, Sheet, Soft, Tag } from "../../parts";
import { Keys } from "./Keys";

export function OneConsumer({ consumer }: { consumer: ConsumerView }) {
  const [label, setLabel] = useState("");
  const [opens, setOpens] = useState("");
  const names = opens
    .split(",")
    .map((name) => name.trim())
    .filter(Boolean);
  const facades = names.length > 0 ? names : undefined;
  const make = useChange(() =>
    api("POST /api/consumers/{consumer}/keys", { path: { consumer: consumer.name }, body: { label, facades } }),
  );
  const pause = useChange((paused: boolean) =>
    api("PUT /api/consumers/{consumer}/pause", { path: { consumer: consumer.name }, body: { paused } }),
  );
  const error = make.error ?? pause.error;
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
      <Keys consumer={consumer} />
      <RowOf>
        <Field label="Label of a new key" value={label} onChange={setLabel} />
        <Field label="Facades it opens, with commas; all unless given" value={opens} onChange={setOpens} />
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
