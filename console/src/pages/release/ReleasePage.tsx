import { useState } from "react";

import { useApi } from "../../api/client";
import type { Offering, Released } from "../../api/schema";
import { Loaded, Notice, Page } from "../../parts";
import { useTitle } from "../../parts/title";
import { Offered } from "./Offered";
import { OneDifference } from "./OneDifference";
import { PORTAL, ReleaseForm } from "./ReleaseForm";
import { Releases } from "./Releases";
import { ServedNow } from "./ServedNow";

export function ReleasePage() {
  useTitle("Compare and release");
  const compare = useApi("GET /api/compare");
  const [released, setReleased] = useState<Released>();
  const offering = useApi("GET /api/offers/compare");
  return (
    <Page>
      <h1>Compare and release</h1>
      {released && <ServedNow released={released} />}
      <Loaded of={compare}>
        {(all) => (
          <Loaded of={offering}>
            {(offered) => {
              const open = all.filter((d) => d.status !== "same");
              const offers = unreleased(offered);
              const nothing = open.length === 0 && offers.length === 0;
              return (
                <>
                  {nothing && (
                    <Notice $tone="accent">Callers are served what the draft says. There is nothing to release.</Notice>
                  )}
                  {open.map((d) => (
                    <OneDifference key={d.facade} d={d} />
                  ))}
                  <Offered of={offered} />
                  {!nothing && (
                    <ReleaseForm
                      key={[...open.map((d) => d.facade), ...offers].join()}
                      list={open}
                      offers={offers}
                      onDone={setReleased}
                    />
                  )}
                </>
              );
            }}
          </Loaded>
        )}
      </Loaded>
      <Releases onDone={setReleased} />
    </Page>
  );
}

/** What is not offered yet: names of offers, and the portal. */
function unreleased(of: Offering): string[] {
  const offers = of.offers.filter((o) => o.status !== "same").map((o) => o.offer);
  return of.portal && of.portal !== "same" ? [...offers, PORTAL] : offers;
}
