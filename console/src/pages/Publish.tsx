import { useState } from "react";
import { Link } from "react-router";

import { api, useChange } from "../api/client";
import type { Pushed } from "../api/schema";
import type { Finding, Look } from "../api/types";
import { Area, Button, Field, Findings, Fold, Notice, Page, Problem, RowOf, Sheet, Soft, Table, Tag } from "../parts";
import { useTitle } from "../parts/title";

interface Source {
  url: string;
  files: Record<string, string>;
}

const nameOf = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "");

function Found({ look, source }: { look: Look; source: Source }) {
  const [chosen, setChosen] = useState(() => look.operations.filter((o) => o.available).map((o) => o.source));
  const [name, setName] = useState(nameOf(look.title));
  const [search, setSearch] = useState("");
  const publish = useChange(async () => {
    const derived = await api<{ files: Record<string, string> }>("POST", "/api/derive", {
      ...source,
      name,
      only: chosen,
    });
    const draft = await api<{ path: string }[]>("GET", "/api/draft");
    const files = Object.fromEntries(Object.entries(derived.files).map(([path, text]) => [`${name}/${path}`, text]));
    const taken = draft.find((f) => f.path in files);
    if (taken) throw new Error(`The draft has ${taken.path} already: choose another name.`);
    return api<Pushed>("PUT", "/api/draft", { files });
  });
  const listed = look.operations.filter((o) => o.source.toLowerCase().includes(search.trim().toLowerCase()));
  return (
    <>
      <Sheet>
        <RowOf>
          <h2>{look.title}</h2>
          <Tag>{look.kind.toUpperCase()}</Tag>
          <Soft>it answers; calls go to {look.addresses.join(", ") || "an address you give"}</Soft>
        </RowOf>
        <p>{look.documentation}</p>
        {look.operations.length > 12 && <Field label="Search operations" value={search} onChange={setSearch} />}
        <Table
          label="Operations found"
          head={["", "Operation", "As REST", "Why this shape", "Inputs"]}
          empty="No operation fits."
          rows={listed.map((o) => ({
            key: o.source,
            cells: [
              <input
                key="c"
                type="checkbox"
                aria-label={`Publish ${o.source}`}
                disabled={!o.available}
                checked={chosen.includes(o.source)}
                onChange={(e) =>
                  setChosen(e.target.checked ? [...chosen, o.source] : chosen.filter((s) => s !== o.source))
                }
              />,
              <span key="n">
                {o.source} <Soft>{o.documentation}</Soft>
              </span>,
              <code key="p">
                {o.method} {o.path}
              </code>,
              o.available ? <Soft key="r">{o.reason}</Soft> : <Tag $tone="warn">cannot be called: {o.why}</Tag>,
              <Soft key="i">{o.inputs.map((f) => f.name + (f.required ? "" : "?")).join(", ")}</Soft>,
            ],
          }))}
        />
        {look.operations.some((o) => o.losses.length > 0) && (
          <Fold title="What JSON cannot carry">
            {look.operations
              .filter((o) => o.losses.length > 0)
              .map((o) => (
                <p key={o.source}>
                  {o.source}: {o.losses.join("; ")}
                </p>
              ))}
          </Fold>
        )}
      </Sheet>
      <Sheet>
        <h2>Name it</h2>
        <Field label="Name of backend and facade" value={name} onChange={setName} required />
        <RowOf>
          <Button
            $kind="main"
            isDisabled={publish.isPending || chosen.length === 0 || !name}
            onPress={() => publish.mutate(undefined)}
          >
            Put {chosen.length} operations into the draft
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
          <Notice $tone="accent">
            <strong>{name} is in the draft.</strong> <Link to={`/facades/${name}`}>Look at it and try it</Link>, then{" "}
            <Link to="/release">release it</Link>.
            <Findings findings={(publish.data.findings as Finding[]).filter((f) => f.file.startsWith(`${name}/`))} />
          </Notice>
        )}
      </Sheet>
    </>
  );
}

export function Publish() {
  useTitle("Publish a backend");
  const [url, setUrl] = useState("");
  const [text, setText] = useState("");
  const [source, setSource] = useState<Source>({ url: "", files: {} });
  const look = useChange((from: Source) => api<Look>("POST", "/api/look", from));
  const begin = () => {
    const from: Source = url.trim() ? { url: url.trim(), files: {} } : { url: "", files: { "definition.wsdl": text } };
    setSource(from);
    look.mutate(from);
  };
  return (
    <Page>
      <h1>Publish a backend</h1>
      <Sheet>
        <h2>Where is its definition?</h2>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            begin();
          }}
          style={{ display: "grid", gap: 12 }}
        >
          <Field label="Address of a WSDL or an OpenAPI document" value={url} onChange={setUrl} />
          <Fold title="Or paste it">
            <Area aria-label="Definition" rows={8} value={text} onChange={(e) => setText(e.target.value)} />
          </Fold>
          <RowOf>
            <Button type="submit" $kind="main" isDisabled={look.isPending || (!url.trim() && !text.trim())}>
              Look
            </Button>
          </RowOf>
        </form>
        {look.error && <Problem error={look.error} />}
      </Sheet>
      {look.data && <Found key={look.data.title + look.submittedAt} look={look.data} source={source} />}
    </Page>
  );
}
