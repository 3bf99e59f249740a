import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { Looked } from "../../api/schema";
import { Button, Field, Notice, Problem, RowOf, Sheet, Soft } from "../../parts";
import { AddressChoice } from "./AddressChoice";
import { InTheDraft } from "./InTheDraft";
import { type Chosen, nameOf, type Source } from "./source";

/** Gives what was chosen a name and puts it into the draft. */
export function NameIt(props: { look: Looked; source: Source; chosen: string[]; shapes: Record<string, Chosen> }) {
  const { look, source, chosen, shapes } = props;
  const [name, setName] = useState(nameOf(look.title));
  const [address, setAddress] = useState(look.addresses[0] ?? "");
  const [key, setKey] = useState(true);
  const [asIs, setAsIs] = useState(false);
  const [requests, setRequests] = useState("");
  const [window, setWindow] = useState("1m");
  const begins = !!source.exchanges;
  const taken = look.operations.filter((o) => chosen.includes(o.source));
  const publish = useChange(async () => {
    const operations = Object.fromEntries(taken.flatMap((o) => (shapes[o.id] ? [[o.id, shapes[o.id] ?? {}]] : [])));
    const limit = Number(requests) > 0 ? { requests: Number(requests), window } : undefined;
    const body = {
      ...source,
      name,
      address,
      only: chosen,
      names: asIs ? ("as-is" as const) : ("camel" as const),
      operations,
      key,
      limit,
      calls_nothing: begins,
    };
    const derived = await api("POST /api/derive", { body });
    const draft = await api("GET /api/draft");
    const files = Object.fromEntries(Object.entries(derived.files).map(([path, text]) => [`${name}/${path}`, text]));
    const there = draft.find((f) => f.path in files);
    if (there) throw new Error(`The draft has ${there.path} already: choose another name.`);
    const put = await api("PUT /api/draft", { body: { files } });
    // Secrets are kept when what names them is there.
    const { secrets, secrets_kept: kept } =
      derived.secrets.length > 0 ? await api("POST /api/derive", { body: { ...body, keep_secrets: true } }) : derived;
    return { ...put, secrets, kept };
  });
  return (
    <Sheet>
      <h2>Name it</h2>
      <Field
        label={begins ? "Name of the facade" : "Name of backend and facade"}
        value={name}
        onChange={setName}
        required
      />
      <RowOf>
        <label style={{ minHeight: 24 }}>
          <input type="checkbox" checked={key} onChange={(e) => setKey(e.target.checked)} /> Callers need a key
        </label>
        <Field
          label={key ? "Requests of one consumer, no limit if empty" : "Requests of one address, no limit if empty"}
          value={requests}
          onChange={(text) => setRequests(text.replace(/\D/g, ""))}
        />
        <Field label="in (30s, 1m, 1h, 1d)" value={window} onChange={setWindow} />
      </RowOf>
      {look.kind !== "http" && (
        <label style={{ minHeight: 24 }}>
          <input type="checkbox" checked={asIs} onChange={(e) => setAsIs(e.target.checked)} /> Names as in the
          definition, not in camelCase
        </label>
      )}
      {!begins && <AddressChoice look={look} address={address} onChange={setAddress} />}
      <RowOf>
        <Button
          $kind="main"
          isDisabled={publish.isPending || chosen.length === 0 || !name}
          onPress={() => publish.mutate(undefined)}
        >
          Put {taken.length} operations into the draft
        </Button>
        <Soft>Callers see nothing of it before you release it.</Soft>
      </RowOf>
      {publish.error &&
        (publish.error.findings ? (
          <Problem error={publish.error} />
        ) : (
          <Notice $tone="bad">{publish.error.message}</Notice>
        ))}
      {publish.data && (
        <InTheDraft
          name={name}
          operations={taken.map((o) => ({ ...o, id: shapes[o.id]?.id?.trim() || o.id }))}
          findings={publish.data.findings}
        />
      )}
      {publish.data && <Kept secrets={publish.data.secrets} kept={publish.data.kept} />}
    </Sheet>
  );
}

/** What became of the secrets that sample calls carried. */
function Kept({ secrets, kept }: { secrets: string[]; kept: string[] }) {
  if (secrets.length === 0) return null;
  const there = secrets.filter((s) => !kept.includes(s));
  return (
    <Notice $tone="accent">
      {kept.length > 0 && <div>Secrets of the sample are set: {kept.join(", ")}. They stand in no document.</div>}
      {there.length > 0 && <div>There already, and left as they are: {there.join(", ")}.</div>}
    </Notice>
  );
}
