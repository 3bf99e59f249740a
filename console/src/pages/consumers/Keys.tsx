import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { ConsumerView, KeyView } from "../../api/schema";
import { Ask, Button, Code, Copy, Field, Notice, Problem, RowOf, Sheet, Soft, Table, When } from "../../parts";
import { hasEnded } from "./ended";
import { KeyState } from "./KeyState";
import { listed } from "./listed";

const DAY = 86_400_000;
/** How long an old key is good beside the one that takes its place. */
const KEPT = 7;

/** What a key opens, in words. */
const opens = (k: KeyView): string =>
  (k.facades ? k.facades.join(", ") : "every facade") +
  (k.agreements ? `, by agreement ${k.agreements.join(", ")}` : "");

/** The keys of a consumer: made, renewed, paused, ended. */
export function Keys({ consumer }: { consumer: ConsumerView }) {
  const [label, setLabel] = useState("");
  const [days, setDays] = useState("");
  const [opening, setOpening] = useState("");
  const [shown, setShown] = useState<{ key: string; old?: KeyView }>();
  const facades = listed(opening);
  const make = useChange(() =>
    api("POST /api/consumers/{consumer}/keys", {
      path: { consumer: consumer.name },
      body: {
        label,
        ends_at: Number(days) > 0 ? Date.now() + Number(days) * DAY : undefined,
        facades: facades.length > 0 ? facades : undefined,
      },
    }),
  );
  return (
    <Sheet aria-label="Keys">
      <h2>Keys</h2>
      <KeyTable consumer={consumer} onRenewed={(key, old) => setShown({ key, old })} />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined, { onSuccess: (made) => made.key && setShown({ key: made.key }) });
        }}
      >
        <RowOf>
          <Field label="Label of a new key" value={label} onChange={setLabel} />
          <Field label="Days until it ends, if it does" value={days} onChange={setDays} type="number" />
          <Field label="Facades it opens, with commas; all unless given" value={opening} onChange={setOpening} />
          <Button type="submit" style={{ alignSelf: "end" }}>
            Make a key
          </Button>
        </RowOf>
      </form>
      {shown && (
        <Notice $tone="accent">
          This is the only time the key is shown whole.{" "}
          {shown.old
            ? `The one whose place it takes, ${shown.old.prefix}…, is good for ${KEPT} days more.`
            : "Older keys stay good until you end them."}
          <Code>{shown.key}</Code>
          <Copy text={shown.key} what="the key" />
        </Notice>
      )}
      {make.error && <Problem error={make.error} />}
    </Sheet>
  );
}

function KeyTable(props: { consumer: ConsumerView; onRenewed: (key: string, old: KeyView) => void }) {
  const { consumer } = props;
  const change = useChange((c: { prefix: string; ends_at?: number; paused?: boolean }) =>
    api("PUT /api/keys/{prefix}", { path: { prefix: c.prefix }, body: { ends_at: c.ends_at, paused: c.paused } }),
  );
  const renew = useChange((prefix: string) =>
    api("POST /api/keys/{prefix}/renew", { path: { prefix }, body: { old_until: Date.now() + KEPT * DAY } }),
  );
  const [now] = useState(() => Date.now());
  const error = change.error ?? renew.error;
  return (
    <>
      <Table
        label={`Keys of ${consumer.name}`}
        head={["Key", "Label", "Opens", "Made", "Used", "State", ""]}
        empty="It has no key yet."
        rows={consumer.keys.map((k) => ({
          key: k.prefix,
          worth: [k.prefix, k.label, opens(k), k.created_at, k.last_used_at ?? 0],
          cells: [
            <code key="p">{k.prefix}…</code>,
            k.label,
            opens(k),
            <When key="w" at={k.created_at} />,
            k.last_used_at ? <When key="u" at={k.last_used_at} /> : <Soft key="u">never</Soft>,
            <KeyState key="s" k={k} />,
            hasEnded(k, now) ? (
              ""
            ) : (
              <RowOf key="a">
                <Button
                  aria-label={`Renew ${k.prefix}`}
                  onPress={() =>
                    renew.mutate(k.prefix, { onSuccess: (r) => r.new.key && props.onRenewed(r.new.key, r.old) })
                  }
                >
                  Renew
                </Button>
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
                  Calls of {consumer.name} with this key get 401 from now on. This cannot be undone; renew it instead,
                  if it still calls.
                </Ask>
              </RowOf>
            ),
          ],
        }))}
      />
      {error && <Problem error={error} />}
    </>
  );
}
