import { useState } from "react";
import { Link, useParams } from "react-router";

import { Ask, Loaded, Notice, Problem, Sheet, Soft, Table, Tag, When } from "../../parts";
import { time } from "../../parts/format";
import { api, useApi, useChange } from "../client";
import { Credentials } from "../parts/Credentials";
import { Keys } from "../parts/Keys";
import { Left } from "../parts/Left";
import { SignedIn } from "../parts/SignedIn";
import { Content } from "../parts/Sheets";
import { useTitle } from "../parts/title";
import { Usage } from "../parts/Usage";
import { opened, terms } from "../parts/words";
import type { AgreementView, Application } from "../schema";

export function OneApplication() {
  const { application = "" } = useParams();
  useTitle(application);
  return (
    <Content>
      <h1>{application}</h1>
      <SignedIn>
        <One name={application} />
      </SignedIn>
    </Content>
  );
}

function One({ name }: { name: string }) {
  const all = useApi("GET /api/applications", {}, 15_000);
  return (
    <Loaded of={all}>
      {(list) => {
        const found = list.find((a) => a.name === name);
        if (!found) return <p>You have no application of this name.</p>;
        return (
          <>
            {found.paused && <Notice $tone="warn">The publisher has stopped this application.</Notice>}
            <Agreed of={found} />
            <Keys of={found} />
            <Left application={found.name} />
            <Usage application={found.name} />
            <Credentials of={found} />
          </>
        );
      }}
    </Loaded>
  );
}

function Agreed({ of }: { of: Application }) {
  const [now] = useState(() => Date.now());
  const end = useChange((id: number) =>
    api("POST /api/agreements/{agreement}/end", { path: { agreement: id }, body: {} }),
  );
  const withdraw = useChange((id: number) => api("DELETE /api/requests/{request}", { path: { request: id } }));
  const open = of.requests.filter((r) => r.state !== "granted");
  const error = end.error ?? withdraw.error;
  return (
    <Sheet aria-label="What it may call">
      <h2>What it may call</h2>
      <Table
        label="Agreements"
        head={["Offer", "Opens", "Terms", "From", "State", ""]}
        empty="Nothing yet."
        rows={of.agreements.map((a) => {
          const over = a.until_at != null && a.until_at <= now;
          return {
            key: String(a.id),
            cells: [
              a.offer,
              opened(a.opens ?? []) || "everything",
              terms(a.terms),
              <When key="w" at={a.from_at} />,
              <State key="s" a={a} over={over} />,
              over ? (
                ""
              ) : (
                <Ask
                  key="e"
                  label="End"
                  name={`End ${a.offer}`}
                  title={`End ${a.offer}?`}
                  onYes={() => end.mutate(a.id)}
                >
                  {of.name} may no longer call what it opens, from now on.
                </Ask>
              ),
            ],
          };
        })}
      />
      {open.length > 0 && (
        <Table
          label="Requests"
          head={["Asked for", "When", "State", "Why", ""]}
          empty=""
          rows={open.map((r) => ({
            key: String(r.id),
            cells: [
              r.offer,
              <When key="w" at={r.asked_at} />,
              <Tag key="s" $tone={r.state === "turned-down" ? "bad" : undefined}>
                {r.state === "turned-down" ? "turned down" : r.state}
              </Tag>,
              r.reason || r.why,
              r.state === "open" ? (
                <Ask
                  key="a"
                  label="Withdraw"
                  name={`Withdraw ${r.offer}`}
                  title={`Withdraw the request for ${r.offer}?`}
                  onYes={() => withdraw.mutate(r.id)}
                >
                  Nobody decides on it any more.
                </Ask>
              ) : (
                ""
              ),
            ],
          }))}
        />
      )}
      <Soft>
        <Link to="/offers">All offers</Link>
      </Soft>
      {error && <Problem error={error} />}
    </Sheet>
  );
}

function State({ a, over }: { a: AgreementView; over: boolean }) {
  if (over) return <Tag title={time(a.until_at ?? 0)}>ended</Tag>;
  if (a.paused) return <Tag $tone="warn">paused</Tag>;
  return <Tag $tone="good">{a.until_at ? `until ${time(a.until_at).slice(0, 10)}` : "holds"}</Tag>;
}
