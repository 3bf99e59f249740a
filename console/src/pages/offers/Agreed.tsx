import { useState } from "react";
import { Link } from "react-router";

import { api, useApi, useChange } from "../../api/client";
import type { AgreementView } from "../../api/schema";
import { Ask, Button, Field, Loaded, PAGE, Pager, Problem, RowOf, Sheet, Table, Tag, When } from "../../parts";
import { time } from "../../parts/format";
import { termsOf } from "./words";

/** What was agreed, of all consumers. */
export function Agreed() {
  const [search, setSearch] = useState("");
  const [holding, setHolding] = useState(true);
  const [before, setBefore] = useState<number[]>([]);
  const agreements = useApi("GET /api/agreements", { query: { search, holding, before: before.at(-1), most: PAGE } });
  return (
    <Sheet aria-label="Agreements">
      <h2>Agreements</h2>
      <RowOf>
        <Field
          label="Search consumers, owners and offers"
          value={search}
          onChange={(text) => {
            setSearch(text);
            setBefore([]);
          }}
        />
        <label style={{ alignSelf: "end", minHeight: 24 }}>
          <input
            type="checkbox"
            checked={holding}
            onChange={(e) => {
              setHolding(e.target.checked);
              setBefore([]);
            }}
          />{" "}
          only those that have not ended
        </label>
      </RowOf>
      <Loaded of={agreements}>
        {(list) => (
          <>
            <List list={list} />
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

function List({ list }: { list: AgreementView[] }) {
  const [now] = useState(() => Date.now());
  const path = (id: number) => ({ agreement: id });
  const end = useChange((of: { id: number; with_notice: boolean }) =>
    api("POST /api/agreements/{agreement}/end", { path: path(of.id), body: { with_notice: of.with_notice } }),
  );
  const pause = useChange((of: { id: number; paused: boolean }) =>
    api("PUT /api/agreements/{agreement}", { path: path(of.id), body: { paused: of.paused } }),
  );
  const error = end.error ?? pause.error;
  return (
    <>
      <Table
        label="All agreements"
        plain
        head={["#Number", "Consumer", "Offer", "Terms", "Opens", "From", "State", ""]}
        empty="Nothing fits that."
        rows={list.map((a) => {
          const over = a.until_at != null && a.until_at <= now;
          return {
            key: String(a.id),
            cells: [
              a.id,
              <Link key="c" to={`/consumers/${encodeURIComponent(a.consumer)}`}>
                {a.consumer}
              </Link>,
              a.offer,
              <code key="t">{termsOf(a.terms)}</code>,
              a.opens ? a.opens.join(", ") : "every facade",
              <When key="w" at={a.from_at} />,
              <State key="s" a={a} over={over} />,
              over ? (
                ""
              ) : (
                <RowOf key="d" $gap="var(--space-1)">
                  <Button
                    aria-label={`${a.paused ? "Resume" : "Pause"} agreement ${a.id}`}
                    onPress={() => pause.mutate({ id: a.id, paused: !a.paused })}
                  >
                    {a.paused ? "Resume" : "Pause"}
                  </Button>
                  <Ask
                    label="End with notice"
                    name={`End with notice: agreement ${a.id}`}
                    title={`End “${a.offer}” of ${a.consumer} with notice?`}
                    onYes={() => end.mutate({ id: a.id, with_notice: true })}
                  >
                    It holds for as long as the offer says that notice takes. They are told.
                  </Ask>
                  <Ask
                    label="End"
                    name={`End agreement ${a.id}`}
                    title={`End “${a.offer}” of ${a.consumer} at once?`}
                    onYes={() => end.mutate({ id: a.id, with_notice: false })}
                  >
                    What it opens is closed to {a.consumer} from now on. They are told.
                  </Ask>
                </RowOf>
              ),
            ],
          };
        })}
      />
      {error && <Problem error={error} />}
    </>
  );
}

function State({ a, over }: { a: AgreementView; over: boolean }) {
  if (over) return <Tag title={time(a.until_at ?? 0)}>ended</Tag>;
  if (a.paused) return <Tag $tone="warn">paused</Tag>;
  return <Tag $tone="good">{a.until_at ? `until ${time(a.until_at).slice(0, 10)}` : "holds"}</Tag>;
}
