import { useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, useApi, useChange } from "../../api/client";
import type { Looked } from "../../api/schema";
import { Button, Findings, Fold, Notice, Problem, RowOf, Sheet, Soft } from "../../parts";
import { nameOf, type Source } from "./source";

/** Brings a facade of the draft up to what was looked at: a definition that changed, or its contract, edited elsewhere. */
export function UpdateIt({ look, source }: { look: Looked; source: Source }) {
  const facades = useApi("GET /api/facades");
  const [asked] = useSearchParams();
  const names = (facades.data ?? []).filter((f) => f.status !== "gone").map((f) => f.name);
  const wanted = asked.get("facade") ?? "";
  if (names.length === 0 || source.exchanges || source.sample) return null;
  const near = [wanted, nameOf(look.title)].find((n) => names.includes(n));
  return (
    <Sheet>
      <Fold
        title={wanted ? `Bring ${wanted} up to it` : "Or bring a facade of the draft up to it"}
        open={wanted !== ""}
      >
        <Differences key={near} names={names} first={near ?? names[0] ?? ""} source={source} />
      </Fold>
    </Sheet>
  );
}

function Differences({ names, first, source }: { names: string[]; first: string; source: Source }) {
  const [name, setName] = useState(first);
  const update = useChange((name: string) => api("POST /api/update", { body: { ...source, name } }));
  const put = useChange((d: NonNullable<typeof update.data>) =>
    api("PUT /api/draft", { body: { files: d.files, remove: d.removed, revisions: d.revisions } }),
  );
  const found = update.data;
  return (
    <div style={{ display: "grid", gap: 12 }}>
      <Soft>
        Its wiring and your edits stay. What changed in a definition is taken over; an OpenAPI document takes the place
        of the facade’s contract.
      </Soft>
      <RowOf>
        <label>
          Facade{" "}
          <select
            value={name}
            onChange={(e) => {
              setName(e.target.value);
              update.reset();
              put.reset();
            }}
            style={{ minHeight: 28 }}
          >
            {names.map((n) => (
              <option key={n}>{n}</option>
            ))}
          </select>
        </label>
        <Button isDisabled={update.isPending} onPress={() => update.mutate(name)}>
          Show the differences
        </Button>
      </RowOf>
      {update.error && <Problem error={update.error} />}
      {found && <Changes changes={found.changes} />}
      {found && <Findings findings={found.findings} />}
      {found && Object.keys(found.files).length + found.removed.length > 0 && !put.data && (
        <RowOf>
          <Button $kind="main" isDisabled={put.isPending} onPress={() => put.mutate(found)}>
            Put {Object.keys(found.files).length + found.removed.length} changed files into the draft
          </Button>
          <Soft>Callers see nothing of it before you release it.</Soft>
        </RowOf>
      )}
      {put.error && <Problem error={put.error} />}
      {put.data && (
        <Notice $tone="accent">
          <strong>{name} is up to it in the draft.</strong> <Link to={`/facades/${name}`}>Open the facade</Link>, or{" "}
          <Link to="/release">compare and release it</Link>.
          <Findings findings={put.data.findings.filter((f) => f.file.startsWith(`${name}/`))} />
        </Notice>
      )}
    </div>
  );
}

/** So many differences are shown at once. */
const SHOWN = 200;

function Changes({ changes }: { changes: string[] }) {
  if (changes.length === 0) return <Notice $tone="accent">It asks for no change of the documents.</Notice>;
  return (
    <div>
      <ul style={{ margin: 0 }}>
        {changes.slice(0, SHOWN).map((change, i) => (
          <li key={i}>{change}</li>
        ))}
      </ul>
      {changes.length > SHOWN && <Soft>and {changes.length - SHOWN} more</Soft>}
    </div>
  );
}
