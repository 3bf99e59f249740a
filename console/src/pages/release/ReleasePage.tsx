import { useState } from "react";

import { useApi } from "../../api/client";
import type { Released } from "../../api/schema";
import { Loaded, Notice, Page } from "../../parts";
import { useTitle } from "../../parts/title";
import { OneDifference } from "./OneDifference";
import { ReleaseForm } from "./ReleaseForm";
import { Releases } from "./Releases";
import { ServedNow } from "./ServedNow";

export function ReleasePage() {
  useTitle("Compare and release");
  const compare = useApi("GET /api/compare");
  const [released, setReleased] = useState<Released>();
  return (
    <Page>
      <h1>Compare and release</h1>
      {released && <ServedNow released={released} />}
      <Loaded of={compare}>
        {(all) => {
          const open = all.filter((d) => d.status !== "same");
          return (
            <>
              {open.length === 0 && (
                <Notice $tone="accent">Callers are served what the draft says. There is nothing to release.</Notice>
              )}
              {open.map((d) => (
                <OneDifference key={d.facade} d={d} />
              ))}
              {open.length > 0 && (
                <ReleaseForm key={open.map((d) => d.facade).join()} list={open} onDone={setReleased} />
              )}
            </>
          );
        }}
      </Loaded>
      <Releases onDone={setReleased} />
    </Page>
  );
}
