import { useState } from "react";

import { api, useApi, useChange } from "../api/client";
import type { QuotaView } from "../api/schema";
import { Button, Field, Loaded, Page, Problem, RowOf, Sheet, Soft, Table, Tag, When } from "../parts";
import { time } from "../parts/format";
import { useTitle } from "../parts/title";

/** How far quotas are used, what is added to them, and what was told of them. */
export function Quotas() {
  useTitle("Quotas");
  const quotas = useApi("GET /api/quotas", {}, 5000);
  return (
    <Page>
      <h1>Quotas</h1>
      <Sheet aria-label="Used">
        <Loaded of={quotas}>{(list) => <QuotaTable list={list} />}</Loaded>
      </Sheet>
      <Add />
      <Told />
    </Page>
  );
}

const share = (q: QuotaView): number | undefined => (q.most ? Math.floor((q.used * 100) / q.most) : undefined);

function QuotaTable({ list }: { list: QuotaView[] }) {
  return (
    <Table
      label="Quotas"
      head={["Facade", "Quota", "Whose", "#Used", "#Of", "#Added", "#Share", "Begins anew"]}
      empty="No quota has been used in its period."
      rows={list.map((q, i) => {
        const of = share(q);
        const tone = of === undefined || of < 80 ? undefined : of < 100 ? "warn" : "bad";
        return {
          key: String(i),
          worth: [q.facade, q.rule, q.whose, q.used, q.most ?? 0, q.added, of ?? 0, q.until_at],
          cells: [
            q.facade,
            q.rule,
            q.whose || <Soft key="w">by request</Soft>,
            q.used,
            q.most ?? "",
            q.added || "",
            of === undefined ? (
              ""
            ) : (
              <Tag key="s" $tone={tone}>
                {of} %
              </Tag>
            ),
            time(q.until_at),
          ],
        };
      })}
    />
  );
}

function Add() {
  const [consumer, setConsumer] = useState("");
  const [facade, setFacade] = useState("");
  const [amount, setAmount] = useState("");
  const [why, setWhy] = useState("");
  const add = useChange(() => api("POST /api/quotas", { body: { consumer, facade, amount: Number(amount), why } }));
  const whole = consumer.trim() && facade.trim() && Number(amount) > 0 && why.trim();
  return (
    <Sheet aria-label="Add">
      <h2>Add to a quota, once</h2>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate(undefined, { onSuccess: () => setAmount("") });
        }}
      >
        <RowOf>
          <Field label="Consumer" value={consumer} onChange={setConsumer} />
          <Field label="Facade" value={facade} onChange={setFacade} />
          <Field label="How much more" value={amount} onChange={setAmount} type="number" />
          <Field label="Why" value={why} onChange={setWhy} />
          <Button type="submit" isDisabled={!whole} style={{ alignSelf: "end" }}>
            Add until its period ends
          </Button>
        </RowOf>
      </form>
      {add.isSuccess && <Soft role="status">Added; it acts at once, and stands in the audit.</Soft>}
      {add.error && <Problem error={add.error} />}
    </Sheet>
  );
}

/** What is known of an event of a quota. */
interface QuotaDetail {
  share?: number;
  used?: number;
  most?: number;
  rule?: string;
}

function Told() {
  const events = useApi("GET /api/events", { query: { most: 50 } }, 5000);
  return (
    <Sheet aria-label="Told">
      <h2>What was told</h2>
      <Loaded of={events}>
        {(list) => (
          <Table
            label="What was told of quotas"
            head={["When", "Consumer", "Facade", "What"]}
            empty="No share of a quota has been passed."
            rows={list.map((e, i) => {
              const d = e.detail as QuotaDetail;
              return {
                key: String(i),
                worth: [e.at],
                cells: [
                  <When key="w" at={e.at} />,
                  e.consumer,
                  e.facade,
                  `${d.share} % is used: ${d.used} of ${d.most} (${d.rule})`,
                ],
              };
            })}
          />
        )}
      </Loaded>
    </Sheet>
  );
}
