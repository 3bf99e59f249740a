import { useApi } from "../../api/client";
import { Loaded, Notice, Page } from "../../parts";
import { useTitle } from "../../parts/title";
import { OneDifference } from "./OneDifference";
import { ReleaseForm } from "./ReleaseForm";
import { Releases } from "./Releases";

export function ReleasePage() {
  useTitle("Compare and release");
  const compare = useApi("GET /api/compare");
  return (
    <Page>
      <h1>Compare and release</h1>
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
              {open.length > 0 && <ReleaseForm key={open.map((d) => d.facade).join()} list={open} />}
            </>
          );
        }}
      </Loaded>
      <Releases />
    </Page>
  );
}
