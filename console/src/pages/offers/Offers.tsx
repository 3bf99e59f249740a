import { Link } from "react-router";

import { useApi } from "../../api/client";
import type { ServedOffer } from "../../api/schema";
import { Loaded, Page, Sheet, Soft, Table, Tag } from "../../parts";
import { useTitle } from "../../parts/title";
import { Agreed } from "./Agreed";
import { Draft } from "./Draft";
import { Requests } from "./Requests";
import { Teams } from "./Teams";
import { lasts, termsOf } from "./words";

/** What is offered, who asks for it, and what was agreed. */
export function Offers() {
  useTitle("Offers and requests");
  const offers = useApi("GET /api/offers");
  return (
    <Page>
      <h1>Offers and requests</h1>
      <Draft />
      <Requests />
      <Sheet aria-label="Offers">
        <h2>Offers that are served</h2>
        <Loaded of={offers}>{(list) => <All list={list} />}</Loaded>
        <Soft>
          Offers are documents: <Link to="/documents">edit them</Link>, then <Link to="/release">release them</Link>.
        </Soft>
      </Sheet>
      <Agreed />
      <Teams />
    </Page>
  );
}

function All({ list }: { list: ServedOffer[] }) {
  return (
    <Table
      label="Offers"
      head={["Offer", "Opens", "Terms", "Granted", "Lasts", "Accepted", "#Agreements"]}
      empty="Nothing is offered yet: write a document “offer/1”."
      rows={list.map((o) => ({
        key: o.name,
        worth: [
          o.title,
          o.opens.join(" "),
          termsOf(o.terms),
          o.granted,
          o.lasts ?? 0,
          o.accept ?? "",
          o.agreements ?? 0,
        ],
        cells: [
          <span key="n">
            {o.title} <Soft>{o.name}</Soft>
          </span>,
          o.opens.join(", "),
          <code key="t">{termsOf(o.terms)}</code>,
          <Tag key="g">{o.granted === "at-once" ? "at once" : "by a person"}</Tag>,
          lasts(o),
          o.accept ?? "",
          o.agreements ?? 0,
        ],
      }))}
    />
  );
}
