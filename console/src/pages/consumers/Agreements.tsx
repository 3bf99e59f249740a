import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { AgreementView, ConsumerView } from "../../api/schema";
import { Ask, Button, Field, Problem, RowOf, Sheet, Table, Tag, When } from "../../parts";
import { time } from "../../parts/format";
import { listed } from "./listed";

const DAY = 86_400_000;

/** Terms as they are written: `requests=7`. Whole numbers are numbers. */
function termsOf(text: string): AgreementView["terms"] {
  const terms: Record<string, string | number> = {};
  for (const pair of listed(text)) {
    const at = pair.indexOf("=");
    const [name, value] = at < 0 ? [pair, ""] : [pair.slice(0, at).trim(), pair.slice(at + 1).trim()];
    terms[name] = /^-?\d{1,15}$/.test(value) ? Number(value) : value;
  }
  return terms;
}

const written = (a: AgreementView): string =>
  Object.entries(a.terms)
    .map(([name, value]) => `${name}=${String(value)}`)
    .join(", ");

/** What a consumer has agreed to. */
export function Agreements({ consumer }: { consumer: ConsumerView }) {
  const [offer, setOffer] = useState("");
  const [terms, setTerms] = useState("");
  const [days, setDays] = useState("");
  const make = useChange(() =>
    api("POST /api/consumers/{consumer}/agreements", {
      path: { consumer: consumer.name },
      body: { offer, terms: termsOf(terms), until_at: Number(days) > 0 ? Date.now() + Number(days) * DAY : undefined },
    }),
  );
  const end = useChange((id: number) =>
    api("POST /api/agreements/{agreement}/end", { path: { agreement: id }, body: {} }),
  );
  const [now] = useState(() => Date.now());
  const error = make.error ?? end.error;
  return (
    <Sheet aria-label="Agreements">
      <h2>Agreements</h2>
      <Table
        label={`Agreements of ${consumer.name}`}
        head={["#Number", "Offer", "Terms", "Opens", "From", "State", ""]}
        empty="It has agreed to nothing."
        rows={consumer.agreements.map((a) => {
          const over = a.until_at != null && a.until_at <= now;
          return {
            key: String(a.id),
            cells: [
              a.id,
              a.offer,
              <code key="t">{written(a)}</code>,
              a.opens ? a.opens.join(", ") : "every facade",
              <When key="w" at={a.from_at} />,
              <AgreementState key="s" a={a} over={over} />,
              over ? (
                ""
              ) : (
                <Ask
                  key="e"
                  label="End"
                  name={`End agreement ${a.id}`}
                  title={`End “${a.offer}” of ${consumer.name}?`}
                  onYes={() => end.mutate(a.id)}
                >
                  Its terms hold no more from now on. Rules that read them go by what they say of callers without.
                </Ask>
              ),
            ],
          };
        })}
      />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined, { onSuccess: () => setTerms("") });
        }}
      >
        <RowOf>
          <Field label="What was offered" value={offer} onChange={setOffer} />
          <Field label="Terms, as in requests=7, berth=north" value={terms} onChange={setTerms} />
          <Field label="Days it lasts, if it ends" value={days} onChange={setDays} type="number" />
          <Button type="submit" isDisabled={!offer.trim()} style={{ alignSelf: "end" }}>
            Note the agreement
          </Button>
        </RowOf>
      </form>
      {error && <Problem error={error} />}
    </Sheet>
  );
}

function AgreementState({ a, over }: { a: AgreementView; over: boolean }) {
  if (over) return <Tag title={time(a.until_at ?? 0)}>ended</Tag>;
  if (a.paused) return <Tag $tone="warn">paused</Tag>;
  return <Tag $tone="good">{a.until_at ? `until ${time(a.until_at).slice(0, 10)}` : "holds"}</Tag>;
}
