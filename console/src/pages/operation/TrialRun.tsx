import { useState } from "react";
import { useSearchParams } from "react-router";

import { api, useChange } from "../../api/client";
import type { Table as OperationTable } from "../../api/schema";
import { Area, Button, Problem, RowOf, Sheet, Soft } from "../../parts";
import { type GivenAnswer, sentAnswers } from "./given";
import { GivenAnswers } from "./GivenAnswers";
import { TrialInputs } from "./TrialInputs";
import { TrialResult } from "./TrialResult";

type Texts = Record<string, string>;

const shown = (value: unknown): string =>
  typeof value === "string"
    ? value
    : value === undefined
      ? ""
      : Array.isArray(value)
        ? value.map(shown).join(", ")
        : JSON.stringify(value);

/** What is typed for a parameter: one value, or several with commas between them where the contract has a list. */
const meant = (text: string, example: unknown) =>
  Array.isArray(example) ? text.split(",").map((t) => t.trim()) : text;

const texts = (values: Record<string, unknown>): Texts =>
  Object.fromEntries(Object.entries(values).map(([name, value]) => [name, shown(value)]));

/** The parameters that an operation's contract has in one place. */
const namesIn = (table: OperationTable, place: string): string[] =>
  table.request.flatMap((row) => (row.caller.startsWith(place) ? [row.caller.slice(place.length)] : []));

/** The header fields that an operation's contract has, and `Accept`, which picks among media types (RFC 9110 §12.5.1). */
const headerNames = (table: OperationTable): string[] => {
  const own = namesIn(table, "header ");
  return own.some((name) => name.toLowerCase() === "accept") ? own : [...own, "Accept"];
};

/** One exchange against the draft, filled in with what the contract gives as examples. */
export function TrialRun({
  facade,
  id,
  table,
  calls,
}: {
  facade: string;
  id: string;
  table: OperationTable;
  calls: string[];
}) {
  const [search] = useSearchParams();
  const [exchange, setExchange] = useState(search.get("answers-of") ?? "");
  const [answers, setAnswers] = useState<Record<string, GivenAnswer>>({});
  const [path, setPath] = useState(() => texts(table.sample.path));
  const [query, setQuery] = useState(() => texts(table.sample.query));
  // Those of the contract, and one for what the backend makes a difference by.
  const [headers, setHeaders] = useState<Texts>(() => Object.fromEntries(headerNames(table).map((n) => [n, ""])));
  const [cookies, setCookies] = useState<Texts>(() =>
    Object.fromEntries(namesIn(table, "cookie ").map((n) => [n, shown(table.sample.cookies[n])])),
  );
  const [body, setBody] = useState(table.sample.text ?? "");
  const given = Object.fromEntries(
    Object.entries(query)
      .filter(([, v]) => v !== "")
      .map(([name, v]) => [name, meant(v, table.sample.query[name])]),
  );
  // All cookies are one field (RFC 6265 §4.2.1).
  const pairs = Object.entries(cookies).flatMap(([name, v]) => (v === "" ? [] : [`${name}=${v}`]));
  const fields = pairs.length > 0 ? { ...headers, Cookie: pairs.join("; ") } : headers;
  const sent = Object.fromEntries(Object.entries(fields).filter(([, v]) => v.trim() !== ""));
  // The body goes as it was typed: reading it here would take digits from its numbers.
  const trial = useChange(() =>
    api("POST /api/trials", {
      body: {
        facade,
        operation: id,
        path,
        query: given,
        headers: sent,
        text: body,
        answers: sentAnswers(answers),
        ...(exchange.trim() === "" ? {} : { answers_of: exchange.trim() }),
      },
    }),
  );
  return (
    <Sheet>
      <h2>Trial run</h2>
      <Soft>One exchange against the draft. Nothing is published, no limit counts, no key is needed.</Soft>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          trial.mutate(undefined);
        }}
      >
        <TrialInputs
          path={path}
          onPath={setPath}
          query={query}
          onQuery={setQuery}
          cookies={cookies}
          onCookies={setCookies}
          headers={headers}
          onHeaders={setHeaders}
        />
        {table.sample.text !== undefined && (
          <Area aria-label="Body" rows={8} value={body} onChange={(e) => setBody(e.target.value)} />
        )}
        {calls.length > 0 && (
          <div style={{ marginTop: 12 }}>
            <GivenAnswers
              names={calls}
              answers={answers}
              onAnswers={setAnswers}
              exchange={exchange}
              onExchange={setExchange}
            />
          </div>
        )}
        <RowOf style={{ marginTop: 12 }}>
          <Button type="submit" $kind="main" isDisabled={trial.isPending}>
            Run
          </Button>
        </RowOf>
      </form>
      {trial.error && <Problem error={trial.error} />}
      {trial.data && <TrialResult reply={trial.data} />}
    </Sheet>
  );
}
