import { Link } from "react-router";

import { Sheet, Soft, Tag } from "../../parts";
import type { ServedOffer } from "../schema";
import { lasts, opened, terms } from "./words";

/** An offer, in short. */
export function OfferCard({ offer, children }: { offer: ServedOffer; children?: React.ReactNode }) {
  return (
    <Sheet aria-label={offer.title}>
      <h3>
        <Link to={`/offers#${offer.name}`} id={offer.name}>
          {offer.title}
        </Link>{" "}
        <Tag $tone={offer.granted === "at-once" ? "good" : undefined}>
          {offer.granted === "at-once" ? "granted at once" : "a person says yes"}
        </Tag>
      </h3>
      <p>{offer.summary}</p>
      <p>
        <Soft>It opens</Soft> {opened(offer.opens)}.
      </p>
      {(offer.limits ?? []).length > 0 && (
        <ul style={{ margin: 0, paddingLeft: "var(--space-4)" }}>
          {offer.limits?.map((limit) => (
            <li key={limit}>{limit}</li>
          ))}
        </ul>
      )}
      {(offer.limits ?? []).length === 0 && Object.keys(offer.terms).length > 0 && (
        <p>
          <Soft>Its terms:</Soft> {terms(offer.terms)}.
        </p>
      )}
      <p>
        {lasts(offer)} {offer.price}
      </p>
      {children}
    </Sheet>
  );
}
