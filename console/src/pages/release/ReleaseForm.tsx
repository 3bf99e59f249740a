import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { Difference } from "../../api/schema";
import { Button, Field, Problem, RowOf, Sheet, Soft } from "../../parts";

export function ReleaseForm({ list }: { list: Difference[] }) {
  const [chosen, setChosen] = useState<string[]>(list.map((d) => d.facade));
  const [note, setNote] = useState("");
  const release = useChange(() => api("POST /api/releases", { body: { facades: chosen, note } }));
  return (
    <Sheet>
      <h2>Release</h2>
      <RowOf>
        {list.map((d) => (
          <label key={d.facade}>
            <input
              type="checkbox"
              checked={chosen.includes(d.facade)}
              onChange={(e) =>
                setChosen(e.target.checked ? [...chosen, d.facade] : chosen.filter((f) => f !== d.facade))
              }
            />{" "}
            {d.facade}
          </label>
        ))}
      </RowOf>
      <Field label="What it is for" value={note} onChange={setNote} />
      <RowOf>
        <Button
          $kind="main"
          isDisabled={chosen.length === 0 || release.isPending}
          onPress={() => release.mutate(undefined)}
        >
          Release {chosen.join(", ")}
        </Button>
        <Soft>Callers are served it at once; everything else is carried over unchanged.</Soft>
      </RowOf>
      {release.error && <Problem error={release.error} />}
    </Sheet>
  );
}
