import { useState } from "react";
import { Link } from "react-router";

import { Ask, Button, Code, Copy, Field, Notice, Problem, RowOf, Sheet, Soft, Table, Tag, When } from "../../parts";
import { ago } from "../../parts/format";
import { api, useChange } from "../client";
import { holdKey } from "../keyring";
import type { Application, KeyView } from "../schema";

/** How many days an old key is good beside the one that takes its place. */
const KEPT = 7;
const DAY = 86_400_000;

/** The keys of an application: made, renewed without a gap, ended. */
export function Keys({ of }: { of: Application }) {
  const [label, setLabel] = useState("");
  const [now] = useState(() => Date.now());
  const [shown, setShown] = useState("");
  const make = useChange(() =>
    api("POST /api/applications/{application}/keys", { path: { application: of.name }, body: { label } }),
  );
  const renew = useChange((prefix: string) =>
    api("POST /api/keys/{prefix}/renew", { path: { prefix }, body: { old_until: Date.now() + KEPT * DAY } }),
  );
  const end = useChange((prefix: string) => api("DELETE /api/keys/{prefix}", { path: { prefix } }));
  const show = (key: string | null | undefined) => {
    setShown(key ?? "");
    holdKey(key ?? "");
  };
  const error = make.error ?? renew.error ?? end.error;
  const over = (k: KeyView) => k.ends_at != null && k.ends_at <= now;
  return (
    <Sheet aria-label="Keys">
      <h2>Keys</h2>
      {shown && (
        <Notice $tone="accent" role="status">
          <strong>Your key, shown this once.</strong> Keep it where nobody else sees it.
          <RowOf>
            <Code aria-label="New key">{shown}</Code>
            <Copy text={shown} what="the key" />
            <Link to="/">Find something to call: this page knows the key until it is closed</Link>
          </RowOf>
        </Notice>
      )}
      <Table
        label="Keys"
        head={["Known by", "For", "Made", "Used", "State", ""]}
        empty="It has none."
        rows={of.keys.map((k) => ({
          key: k.prefix,
          cells: [
            <code key="k">{k.prefix}</code>,
            k.label,
            <When key="m" at={k.created_at} />,
            k.last_used_at ? <When key="u" at={k.last_used_at} /> : <Soft key="u">never</Soft>,
            <KeyState key="s" k={k} over={over(k)} now={now} />,
            over(k) ? (
              ""
            ) : (
              <RowOf key="a" $gap="var(--space-1)">
                <Button
                  aria-label={`Renew ${k.prefix}`}
                  onPress={() => renew.mutate(k.prefix, { onSuccess: (r) => show(r.new.key) })}
                >
                  Renew
                </Button>
                <Ask
                  label="End"
                  name={`End ${k.prefix}`}
                  title={`End the key ${k.prefix}?`}
                  onYes={() => end.mutate(k.prefix)}
                >
                  Calls with it get 401 from now on. It does not come back.
                </Ask>
              </RowOf>
            ),
          ],
        }))}
      />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined, {
            onSuccess: (made) => {
              show(made.key);
              setLabel("");
            },
          });
        }}
      >
        <RowOf>
          <Field label="What a new key is for" value={label} onChange={setLabel} />
          <Button type="submit" $kind="main" isDisabled={make.isPending} style={{ alignSelf: "end" }}>
            Make a key
          </Button>
        </RowOf>
      </form>
      <Soft>Renewed keys are good for {KEPT} more days beside the new one, so that nothing breaks.</Soft>
      {error && <Problem error={error} />}
    </Sheet>
  );
}

function KeyState({ k, over, now }: { k: KeyView; over: boolean; now: number }) {
  if (over) return <Tag>ended</Tag>;
  if (k.paused) return <Tag $tone="warn">stopped</Tag>;
  return <Tag $tone="good">{k.ends_at ? `ends ${ago(k.ends_at, now)}` : "good"}</Tag>;
}
