import { api, useChange } from "../../api/client";
import type { ConsumerView } from "../../api/schema";
import { Button, Problem, RowOf, Table } from "../../parts";
import { time } from "../../parts/format";
import { KeyState } from "./KeyState";

/** The keys of a consumer, to be paused or ended. */
export function Keys({ consumer }: { consumer: ConsumerView }) {
  const change = useChange((c: { prefix: string; ends_at?: number; paused?: boolean }) =>
    api("PUT /api/keys/{prefix}", { path: { prefix: c.prefix }, body: { ends_at: c.ends_at, paused: c.paused } }),
  );
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
      {change.error && <Problem error={change.error} />}
    </>
  );
}
