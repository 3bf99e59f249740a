import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { ConsumerView } from "../../api/schema";
import { Ask, Button, Code, Copy, Field, Notice, Problem, RowOf, Sheet, Soft, Tag } from "../../parts";
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
        {consumer.paused ? (
          <Button aria-label={`Resume ${consumer.name}`} onPress={() => pause.mutate(false)}>
            Resume
          </Button>
        ) : (
          <Ask
            label="Pause"
            name={`Pause ${consumer.name}`}
            title={`Pause ${consumer.name}?`}
            onYes={() => pause.mutate(true)}
          >
            All of its keys are refused with 401 at once, until you resume it.
          </Ask>
        )}
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
          <Copy text={make.data.key} what="the key" />
        </Notice>
      )}
      {error && <Problem error={error} />}
    </Sheet>
  );
}
