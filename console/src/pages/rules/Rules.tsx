import { Link } from "react-router";

import { useApi } from "../../api/client";
import type { ParameterView, RulesView } from "../../api/schema";
import { Loaded, Page, Place, Sheet, Soft, Table } from "../../parts";
import { useTitle } from "../../parts/title";

/** The shared rules of the draft, and what they reach. */
export function Rules() {
  useTitle("Shared rules");
  const rules = useApi("GET /api/rules");
  return (
    <Page>
      <h1>Shared rules</h1>
      <Soft>
        Kept once and used in many places. A narrower reach can tighten what a wider one says; it relaxes only what that
        marks as a default.
      </Soft>
      <Sheet>
        <Loaded of={rules}>
          {(list) => (
            <Table
              label="Shared rules"
              head={["Rules", "Reach", "Parameters", "Act on", "Where"]}
              empty="There are no shared rules yet. A document of them begins with “elm-porch: rules/1”."
              rows={list.map((r) => ({
                key: r.name,
                worth: [r.name, reach(r), r.parameters.map((p) => p.name).join(" "), r.facades.join(" "), r.file],
                cells: [
                  <span key="n">
                    {r.name}
                    {r.title && <Soft style={{ display: "block" }}>{r.title}</Soft>}
                  </span>,
                  reach(r),
                  r.parameters.length > 0 ? (
                    r.parameters.map((p) => <Parameter key={p.name} of={p} />)
                  ) : (
                    <Soft key="p">none</Soft>
                  ),
                  <Reached key="f" facades={r.facades} />,
                  <Place key="w" file={r.file} line={1} short />,
                ],
              }))}
            />
          )}
        </Loaded>
      </Sheet>
    </Page>
  );
}

/** At most so many facades are named. */
const NAMED = 12;

function Reached({ facades }: { facades: string[] }) {
  if (facades.length === 0) return <Soft>nothing</Soft>;
  const more = facades.length - NAMED;
  return (
    <span>
      {facades.slice(0, NAMED).map((f, i) => (
        <span key={f}>
          {i > 0 && ", "}
          <Link to={`/facades/${f}`}>{f}</Link>
        </span>
      ))}
      {more > 0 && <Soft>{` and ${String(more)} more`}</Soft>}
    </span>
  );
}

function Parameter({ of }: { of: ParameterView }) {
  const given = of.default === undefined ? "must be given" : JSON.stringify(of.default);
  return (
    <span style={{ display: "block" }} title={of.description}>
      <code>{of.name}</code> <Soft>{`${of.type}, ${given}`}</Soft>
    </span>
  );
}

function reach(of: RulesView): string {
  if (of.reach === "backends") return `calls of ${of.backends.join(", ")}`;
  return of.reach === "everywhere" ? "everywhere" : "where it is used";
}
