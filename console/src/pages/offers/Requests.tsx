import { useState } from "react";

import { api, useApi, useChange } from "../../api/client";
import type { RequestView } from "../../api/schema";
import {
  Button,
  Field,
  Loaded,
  Notice,
  PAGE,
  Pager,
  Pick,
  Problem,
  RowOf,
  Sheet,
  Soft,
  Table,
  Tag,
  When,
} from "../../parts";

const STATES: [string, string][] = [
  ["open", "open"],
  ["granted", "granted"],
  ["turned-down", "turned down"],
  ["withdrawn", "withdrawn"],
  ["", "all"],
];

/** Requests for offers: those that wait for an answer first. */
export function Requests() {
  const [state, setState] = useState("open");
  const [search, setSearch] = useState("");
  const [before, setBefore] = useState<number[]>([]);
  const requests = useApi("GET /api/requests", { query: { state, search, before: before.at(-1), most: PAGE } }, 15_000);
  return (
    <Sheet aria-label="Requests">
      <h2>Requests</h2>
      <RowOf>
        <Pick
          label="Which"
          value={state}
          onChange={(value) => {
            setState(value);
            setBefore([]);
          }}
          choices={STATES}
        />
        <Field
          label="Search consumers, offers and what was written"
          value={search}
          onChange={(text) => {
            setSearch(text);
            setBefore([]);
          }}
        />
      </RowOf>
      <Loaded of={requests}>
        {(list) => (
          <>
            {list.length === 0 && (
              <Soft>{state === "open" && !search ? "Nobody waits for an answer." : "Nothing fits that."}</Soft>
            )}
            {list.some((r) => r.state === "open") &&
              list.filter((r) => r.state === "open").map((r) => <Open key={r.id} r={r} />)}
            {list.some((r) => r.state !== "open") && <Decided list={list.filter((r) => r.state !== "open")} />}
            <Pager
              marks={before}
              onChange={setBefore}
              shown={list.length}
              last={list.at(-1)?.id}
              names={["Newer", "Older"]}
            />
          </>
        )}
      </Loaded>
    </Sheet>
  );
}

/** A request that waits for an answer. */
function Open({ r }: { r: RequestView }) {
  const [reason, setReason] = useState("");
  const path = { request: r.id };
  const grant = useChange(() => api("POST /api/requests/{request}/grant", { path, body: { reason } }));
  const turnDown = useChange(() => api("POST /api/requests/{request}/turn-down", { path, body: { reason } }));
  const error = grant.error ?? turnDown.error;
  return (
    <Notice $tone="accent">
      <strong>
        {r.consumer} asks for {r.offer}
      </strong>{" "}
      <Soft>
        {r.asked_by} of {r.owner}, <When at={r.asked_at} />
      </Soft>
      {r.why && <p style={{ whiteSpace: "pre-line" }}>{r.why}</p>}
      {r.accepted != null && <Soft>Accepted version {(r.accepted as { version: string }).version}.</Soft>}
      <RowOf>
        <Field label={`What ${r.consumer} is told`} value={reason} onChange={setReason} />
        <Button
          $kind="main"
          aria-label={`Grant ${r.offer} to ${r.consumer}`}
          isDisabled={grant.isPending}
          onPress={() => grant.mutate(undefined)}
          style={{ alignSelf: "end" }}
        >
          Grant
        </Button>
        <Button
          $kind="bad"
          aria-label={`Turn down ${r.consumer}`}
          isDisabled={!reason.trim() || turnDown.isPending}
          onPress={() => turnDown.mutate(undefined)}
          style={{ alignSelf: "end" }}
        >
          Turn down
        </Button>
      </RowOf>
      {error && <Problem error={error} />}
    </Notice>
  );
}

function Decided({ list }: { list: RequestView[] }) {
  return (
    <Table
      label="Decided requests"
      plain
      head={["#Request", "Consumer", "Offer", "State", "Asked", "Decided", "Why"]}
      empty=""
      rows={list.map((r) => ({
        key: String(r.id),
        cells: [
          r.id,
          r.consumer,
          r.offer,
          <Tag key="s" $tone={r.state === "granted" ? "good" : undefined}>
            {r.state.replace("-", " ")}
          </Tag>,
          <span key="a">
            <When at={r.asked_at} /> <Soft>by {r.asked_by}</Soft>
          </span>,
          r.decided_at ? (
            <span key="d">
              <When at={r.decided_at} /> <Soft>by {r.decided_by}</Soft>
            </span>
          ) : (
            ""
          ),
          r.reason || r.why,
        ],
      }))}
    />
  );
}
