import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { Difference, Released } from "../../api/schema";
import { Ask, Button, Field, Problem, RowOf, Sheet, Soft } from "../../parts";
import { Callers } from "./Callers";

/** What the portal is called among offers. */
export const PORTAL = "the portal";

/** Which facades of the draft become what callers are served, and which offers. Nothing is chosen beforehand. */
export function ReleaseForm(props: { list: Difference[]; offers: string[]; onDone: (released: Released) => void }) {
  const { list, offers, onDone } = props;
  const [offered, setOffered] = useState<string[]>([]);
  const [chosen, setChosen] = useState<string[]>([]);
  const [note, setNote] = useState("");
  const release = useChange(async () => {
    const released = await api("POST /api/releases", {
      body: {
        facades: chosen,
        offers: offered.filter((o) => o !== PORTAL),
        portal: offered.includes(PORTAL),
        note,
      },
    });
    onDone(released);
    return released;
  });
  const ends = list.filter((d) => d.status === "gone" && chosen.includes(d.facade));
  const all = [...chosen, ...offered];
  const disabled = all.length === 0 || release.isPending;
  const label = all.length === 0 ? "Release" : `Release ${all.join(", ")}`;
  return (
    <Sheet>
      <h2>Release</h2>
      <RowOf>
        {list.map((d) => (
          <label key={d.facade} style={{ minHeight: 24 }}>
            <input
              type="checkbox"
              checked={chosen.includes(d.facade)}
              onChange={(e) =>
                setChosen(e.target.checked ? [...chosen, d.facade] : chosen.filter((f) => f !== d.facade))
              }
            />{" "}
            {d.facade}
            {d.status === "gone" && <Soft> (ends)</Soft>}
          </label>
        ))}
        {offers.map((offer) => (
          <label key={offer} style={{ minHeight: 24 }}>
            <input
              type="checkbox"
              checked={offered.includes(offer)}
              onChange={(e) => setOffered(e.target.checked ? [...offered, offer] : offered.filter((o) => o !== offer))}
            />{" "}
            {offer === PORTAL ? offer : `offer ${offer}`}
          </label>
        ))}
      </RowOf>
      {stays(list, chosen).map(([file, facades]) => (
        <Soft key={file}>
          <code>{file}</code> stays as it was for {facades.join(", ")}, until they are released too.
        </Soft>
      ))}
      <Field label="What it is for" value={note} onChange={setNote} />
      <RowOf>
        {ends.length > 0 ? (
          <Ask
            label={label}
            title={`End ${ends.map((d) => d.facade).join(", ")} for callers?`}
            isDisabled={disabled}
            onYes={() => release.mutate(undefined)}
          >
            <Callers list={ends} />
          </Ask>
        ) : (
          <Button $kind="main" isDisabled={disabled} onPress={() => release.mutate(undefined)}>
            {label}
          </Button>
        )}
        <Soft>
          {all.length === 0
            ? "Choose what callers are to be served."
            : "Callers are served it at once; everything else is carried over unchanged."}
        </Soft>
      </RowOf>
      {release.error && <Problem error={release.error} />}
    </Sheet>
  );
}

/** Changed files of what is chosen that other facades stand on too, with those of them that are not chosen. */
function stays(list: Difference[], chosen: string[]): [string, string[]][] {
  const files = new Map<string, string[]>();
  for (const d of list.filter((d) => chosen.includes(d.facade))) {
    for (const s of d.shared ?? []) {
      const others = s.facades.filter((f) => !chosen.includes(f));
      if (others.length > 0) files.set(s.file, others);
    }
  }
  return [...files];
}
