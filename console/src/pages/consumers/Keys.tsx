import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { ConsumerView } from "../../api/schema";
import { Ask, Button, Problem, RowOf, Table, When } from "../../parts";
import { hasEnded } from "./ended";
import { KeyState } from "./KeyState";

/** The keys of a consumer, to be paused or ended. */
export function Keys({ consumer }: { consumer: ConsumerView }) {
  const change = useChange((c: { prefix: string; ends_at?: number; paused?: boolean }) =>
    api("PUT /api/keys/{prefix}", { path: { prefix: c.prefix }, body: { ends_at: c.ends_at, paused: c.paused } }),
  );
  const [now] = useState(() => Date.now());
  return (
    <>
      <Table
        label={`Keys of ${consumer.name}`}
        head={["Key", "Label", "Opens", "Made", "State", ""]}
        empty="It has no key yet."
        rows={consumer.keys.map((k) => ({
          key: k.prefix,
          cells: [
            <code key="p">{k.prefix}…</code>,
            k.label,
            k.facades ? k.facades.join(", ") : "every facade",
            <When key="w" at={k.created_at} />,
            <KeyState key="s" k={k} />,
            hasEnded(k, now) ? (
              ""
            ) : (
              <RowOf key="a">
                {k.paused ? (
                  <Button
                    aria-label={`Resume ${k.prefix}`}
                    onPress={() => change.mutate({ prefix: k.prefix, paused: false })}
                  >
                    Resume
                  </Button>
                ) : (
                  <Ask
                    label="Pause"
                    name={`Pause ${k.prefix}`}
                    title={`Pause the key ${k.prefix}…?`}
                    onYes={() => change.mutate({ prefix: k.prefix, paused: true })}
                  >
                    Calls of {consumer.name} with this key get 401 at once, until you resume it.
                  </Ask>
                )}
                <Ask
                  label="End for good"
                  name={`End for good: ${k.prefix}`}
                  title={`End the key ${k.prefix}… for good?`}
                  onYes={() => change.mutate({ prefix: k.prefix, ends_at: 0 })}
                >
                  Calls of {consumer.name} with this key get 401 from now on. This cannot be undone; make a new key
                  first, if it still calls.
                </Ask>
              </RowOf>
            ),
          ],
        }))}
      />
      {change.error && <Problem error={change.error} />}
    </>
  );
}
