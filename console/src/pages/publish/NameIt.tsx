import { useState } from "react";

import { api, useChange } from "../../api/client";
import type { Looked } from "../../api/schema";
import { Button, Field, Notice, Problem, RowOf, Sheet, Soft } from "../../parts";
import { AddressChoice } from "./AddressChoice";
import { InTheDraft } from "./InTheDraft";
import { nameOf, type Source } from "./source";

/** Gives what was chosen a name and puts it into the draft. */
export function NameIt({ look, source, chosen }: { look: Looked; source: Source; chosen: string[] }) {
  const [name, setName] = useState(nameOf(look.title));
  const [address, setAddress] = useState(look.addresses[0] ?? "");
  const taken = look.operations.filter((o) => chosen.includes(o.source));
  const publish = useChange(async () => {
    const derived = await api("POST /api/derive", { body: { ...source, name, address, only: chosen } });
    const draft = await api("GET /api/draft");
    const files = Object.fromEntries(Object.entries(derived.files).map(([path, text]) => [`${name}/${path}`, text]));
    const there = draft.find((f) => f.path in files);
    if (there) throw new Error(`The draft has ${there.path} already: choose another name.`);
    return api("PUT /api/draft", { body: { files } });
  });
  return (
    <Sheet>
      <h2>Name it</h2>
      <Field label="Name of backend and facade" value={name} onChange={setName} required />
      <AddressChoice look={look} address={address} onChange={setAddress} />
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
      {publish.data && <InTheDraft name={name} operations={taken} findings={publish.data.findings} />}
    </Sheet>
  );
}
