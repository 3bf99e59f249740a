import { type ReactNode, useState } from "react";
import styled from "styled-components";

import { Ask } from "./Ask";
import { Button } from "./Button";
import { Field } from "./Field";
import { Fold } from "./Fold";
import { type Hook, type HookEvent, KINDS } from "./hooks";
import { RowOf, Sheet, Soft } from "./Layout";
import { Pager } from "./Pager";
import { Table } from "./Table";
import { Tag } from "./Tag";
import { When } from "./When";

/** A new webhook: where events go, and which. */
export function NewHook(props: { onAdd: (url: string, kinds: string[], done: () => void) => void; under: boolean }) {
  const [url, setUrl] = useState("");
  const [kinds, setKinds] = useState<string[]>([]);
  return (
    <form
      style={{ display: "grid", gap: "var(--space-3)" }}
      onSubmit={(e) => {
        e.preventDefault();
        props.onAdd(url, kinds, () => {
          setUrl("");
          setKinds([]);
        });
      }}
    >
      <Field label="Where events are sent, by HTTPS" value={url} onChange={setUrl} type="url" />
      <fieldset style={{ border: "none", padding: 0, margin: 0 }}>
        <legend>
          <Soft>Which; all of them unless some are chosen</Soft>
        </legend>
        <Kinds>
          {KINDS.map(([kind, when]) => (
            <label key={kind} style={{ display: "block", minHeight: 24 }}>
              <input
                type="checkbox"
                checked={kinds.includes(kind)}
                onChange={(e) => setKinds(e.target.checked ? [...kinds, kind] : kinds.filter((k) => k !== kind))}
              />{" "}
              {when}
            </label>
          ))}
        </Kinds>
      </fieldset>
      <RowOf>
        <Button type="submit" $kind="main" isDisabled={props.under || !url}>
          Add it
        </Button>
      </RowOf>
    </form>
  );
}

/** A webhook, what can be done with it, and its events. */
export function HookSheet(props: {
  hook: Hook;
  may: boolean;
  onPause: (paused: boolean) => void;
  onRemove: () => void;
  onAsk?: () => void;
  children: ReactNode;
}) {
  const { hook } = props;
  return (
    <Sheet aria-label={hook.url}>
      <h2 style={{ overflowWrap: "anywhere" }}>{hook.url}</h2>
      <RowOf>
        {hook.paused ? (
          <Tag $tone="warn">paused</Tag>
        ) : hook.agreed ? (
          <Tag $tone="good">sends</Tag>
        ) : (
          <Tag $tone="bad">not agreed</Tag>
        )}
        <Soft>{hook.kinds.length > 0 ? hook.kinds.join(", ") : "all kinds"}</Soft>
      </RowOf>
      {hook.problem && <p>{hook.problem}</p>}
      {props.may && (
        <RowOf>
          {!hook.agreed && props.onAsk && <Button onPress={props.onAsk}>Ask again</Button>}
          <Button onPress={() => props.onPause(!hook.paused)}>{hook.paused ? "Resume" : "Pause"}</Button>
          <Ask label="Remove" name={`Remove ${hook.url}`} title={`Remove ${hook.url}?`} onYes={props.onRemove}>
            Nothing is sent there any more, and what became of its events is forgotten.
          </Ask>
        </RowOf>
      )}
      <Fold title={<Soft>events</Soft>} open>
        {props.children}
      </Fold>
    </Sheet>
  );
}

/** Events of a webhook and what became of each. */
export function Events(props: {
  list: HookEvent[];
  may: boolean;
  onAgain: (event: number) => void;
  before: number[];
  onPage: (before: number[]) => void;
}) {
  return (
    <>
      <Table
        label="Events"
        head={["Told", "What", "State", "#Tries", "Why not", ""]}
        empty="None yet."
        rows={props.list.map((e) => ({
          key: String(e.id),
          worth: [e.at, e.subject, e.state, e.attempts, e.problem, ""],
          cells: [
            <When key="w" at={e.at} />,
            <span key="s">
              {e.subject}
              <br />
              <Soft>{e.kind}</Soft>
            </span>,
            <span key="t">
              <Tag $tone={e.state === "delivered" ? "good" : e.state === "waiting" ? "warn" : "bad"}>
                {e.state === "given-up" ? "given up" : e.state}
              </Tag>{" "}
              {e.status && <Soft>{e.status}</Soft>}
            </span>,
            e.attempts,
            <span key="p">
              {e.problem}
              {e.next_at && e.state === "waiting" && e.attempts > 0 && (
                <Soft>
                  {" "}
                  again <When at={e.next_at} />
                </Soft>
              )}
            </span>,
            props.may ? (
              <Button key="a" aria-label={`Send again: ${e.id}`} onPress={() => props.onAgain(e.id)}>
                Send again
              </Button>
            ) : (
              ""
            ),
          ],
        }))}
      />
      <Pager
        marks={props.before}
        onChange={props.onPage}
        shown={props.list.length}
        last={props.list.at(-1)?.id}
        names={["Newer", "Older"]}
      />
    </>
  );
}

const Kinds = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(min(100%, 260px), 1fr));
  gap: 0 var(--space-3);
`;
