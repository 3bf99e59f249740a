import { useEffect, useState } from "react";

import { api, useApi, useChange } from "../../api/client";
import type { Difference, Released } from "../../api/schema";
import { Ask, Loaded, Problem, Sheet, Soft, Table, Tag, When } from "../../parts";
import { Callers } from "./Callers";

export function Releases({ onDone }: { onDone: (released: Released) => void }) {
  const releases = useApi("GET /api/releases");
  const back = useChange(async (to: { number: number; served: number }) => {
    const body = { served: to.served };
    onDone(await api("POST /api/releases/{number}/rollback", { path: { number: to.number }, body }));
  });
  return (
    <Sheet>
      <h2>Releases</h2>
      {back.error && <Problem error={back.error} />}
      <Loaded of={releases}>
        {(list) => (
          <Table
            label="Releases"
            head={["#Number", "Made", "By", "Taken", "Holds", "Note", ""]}
            empty="Nothing has been released yet."
            rows={list.map((r) => ({
              key: String(r.number),
              worth: [r.number, r.made_at],
              cells: [
                r.number,
                <When key="w" at={r.made_at} />,
                r.made_by,
                r.taken.join(", "),
                <Soft key="h">{r.facades.length} facades</Soft>,
                r.note,
                r.served ? (
                  <Tag key="s" $tone="good">
                    served
                  </Tag>
                ) : (
                  <ServeAgain key="a" number={r.number} onYes={(served) => back.mutate({ number: r.number, served })} />
                ),
              ],
            }))}
          />
        )}
      </Loaded>
    </Sheet>
  );
}

function ServeAgain({ number, onYes }: { number: number; onYes: (served: number) => void }) {
  const [served, setServed] = useState<number>();
  return (
    <Ask
      label={`Serve ${number} again`}
      title={`Serve release ${number} again?`}
      isReady={served !== undefined}
      onYes={() => served !== undefined && onYes(served)}
    >
      <Back number={number} onKnown={setServed} />
    </Ask>
  );
}

/** What serving a release again would change; asked for when somebody wants to know. */
function Back({ number, onKnown }: { number: number; onKnown: (served: number) => void }) {
  const back = useApi("GET /api/releases/{number}/compare", { path: { number } });
  const served = back.data?.served;
  useEffect(() => {
    if (served !== undefined) onKnown(served);
  }, [served, onKnown]);
  return <Loaded of={back}>{(data) => <WhatChanges list={data.differences} />}</Loaded>;
}

function WhatChanges({ list }: { list: Difference[] }) {
  const of = (status: string) => list.filter((d) => d.status === status);
  const breaks = of("changed").flatMap((d) =>
    d.changes.filter((c) => c.harm === "breaks").map((c) => `${d.facade}: ${c.operation} ${c.what}`),
  );
  const changed = [...of("changed"), ...of("new")].map((d) => d.facade);
  return (
    <>
      {of("gone").length > 0 && <Callers list={of("gone")} />}
      {breaks.length > 0 && (
        <ul>
          {breaks.slice(0, 12).map((b) => (
            <li key={b}>{b}</li>
          ))}
        </ul>
      )}
      {changed.length > 0
        ? `Callers are served other documents of ${changed.join(", ")} at once.`
        : of("gone").length === 0 && "It serves the same as what is served now."}
    </>
  );
}
