import { useState } from "react";
import { Link } from "react-router";

import { api, useChange } from "../api/client";
import type { Looked } from "../api/schema";
import { Area, Button, Field, Findings, Fold, Notice, Page, Problem, RowOf, Sheet, Soft, Table, Tag } from "../parts";
import { useTitle } from "../parts/title";

interface Source {
  url: string;
  login?: string;
  allow_local?: boolean;
  files: Record<string, string>;
  upload?: string;
  name_of_upload?: string;
}

/** The octets of a file in base64. */
const base64 = (file: File) =>
  new Promise<string>((resolve, reject) => {
    const reader = new FileReader();
    reader.onload = () => resolve((reader.result as string).replace(/^data:[^,]*,/, ""));
    reader.onerror = () => reject(new Error(`${file.name} cannot be read`));
    reader.readAsDataURL(file);
  });

const nameOf = (title: string) =>
  title
    .replace(/([a-z0-9])([A-Z])/g, "$1-$2")
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "");

/** So many operations are listed at once. */
const MOST = 100;

function Found({ look, source }: { look: Looked; source: Source }) {
  const [chosen, setChosen] = useState(() => look.operations.filter((o) => o.available).map((o) => o.source));
  const [name, setName] = useState(nameOf(look.title));
  const [search, setSearch] = useState("");
  const [address, setAddress] = useState(look.addresses[0] ?? "");
  const publish = useChange(async () => {
    const derived = await api("POST /api/derive", { body: { ...source, name, address, only: chosen } });
    const draft = await api("GET /api/draft");
    const files = Object.fromEntries(Object.entries(derived.files).map(([path, text]) => [`${name}/${path}`, text]));
    const taken = draft.find((f) => f.path in files);
    if (taken) throw new Error(`The draft has ${taken.path} already: choose another name.`);
    return api("PUT /api/draft", { body: { files } });
  });
  const words = search.toLowerCase().split(/\s+/);
  const listed = look.operations.filter((o) =>
    words.every((w) => `${o.source} ${o.path} ${o.documentation}`.toLowerCase().includes(w)),
  );
  const able = listed.filter((o) => o.available).map((o) => o.source);
  return (
    <>
      <Sheet>
        <RowOf>
          <h2>{look.title}</h2>
          <Tag>{look.kind === "grpc" ? "gRPC" : look.kind.toUpperCase()}</Tag>
          {look.operations[0]?.style && <Soft>{look.operations[0].style}</Soft>}
        </RowOf>
        <p>{look.documentation}</p>
        {look.notes.map((note) => (
          <Notice key={note} $tone="warn">
            {note}
          </Notice>
        ))}
        {look.findings.length > 0 && (
          <Fold title={`What was odd about it (${look.findings.length})`}>
            <ul>
              {look.findings.map((f) => (
                <li key={f.where + f.message}>
                  {f.message} <Soft>{f.where}</Soft>
                </li>
              ))}
            </ul>
          </Fold>
        )}
        {look.operations.length > 12 && (
          <>
            <Field label="Search operations" value={search} onChange={setSearch} />
            <RowOf>
              <Button onPress={() => setChosen([...new Set([...chosen, ...able])])}>Take these {able.length}</Button>
              <Button onPress={() => setChosen(chosen.filter((c) => !able.includes(c)))}>Leave these out</Button>
              <Soft>
                {look.operations.filter((o) => chosen.includes(o.source)).length} of {look.operations.length} are taken.
              </Soft>
            </RowOf>
          </>
        )}
        <Table
          label="Operations found"
          head={["", "Operation", "As REST", "Why this shape", "Inputs"]}
          empty="No operation fits."
          rows={listed.slice(0, MOST).map((o) => ({
            key: o.id,
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
              <code key="p" style={{ whiteSpace: "nowrap" }}>
                {o.method} {o.path}
              </code>,
              o.available ? <Soft key="r">{o.reason}</Soft> : <Tag $tone="warn">cannot be called: {o.why}</Tag>,
              <Soft key="i">{o.inputs.map((f) => f.name + (f.required ? "" : "?")).join(", ")}</Soft>,
            ],
          }))}
        />
        {listed.length > MOST && (
          <Soft>
            The first {MOST} of {listed.length} are shown; search for the others.
          </Soft>
        )}
        {look.operations.some((o) => o.losses.length > 0) && (
          <Fold title="What JSON cannot carry">
            {look.operations
              .filter((o) => o.losses.length > 0)
              .map((o) => (
                <p key={o.id}>
                  {o.source}: {o.losses.join("; ")}
                </p>
              ))}
          </Fold>
        )}
      </Sheet>
      <Sheet>
        <h2>Name it</h2>
        <Field label="Name of backend and facade" value={name} onChange={setName} required />
        {look.addresses.length > 1 ? (
          <fieldset style={{ border: 0, padding: 0, margin: 0, display: "grid", gap: 4 }}>
            <legend>Calls go to</legend>
            {look.addresses.map((one) => (
              <label key={one} style={{ display: "flex", gap: 8, alignItems: "center", minHeight: 24 }}>
                <input type="radio" name="address" checked={address === one} onChange={() => setAddress(one)} />
                <code>{one}</code>
                <Soft>
                  {look.ports
                    .filter((p) => p.address === one)
                    .map((p) => `${p.name} of ${p.service}, SOAP ${p.version ?? ""}`)
                    .join("; ")}
                </Soft>
              </label>
            ))}
          </fieldset>
        ) : (
          <Field label="Calls go to" value={address} onChange={setAddress} />
        )}
        <RowOf>
          <Button
            $kind="main"
            isDisabled={publish.isPending || chosen.length === 0 || !name}
            onPress={() => publish.mutate(undefined)}
          >
            Put {look.operations.filter((o) => chosen.includes(o.source)).length} operations into the draft
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
            <strong>{name} is in the draft.</strong> Try{" "}
            {look.operations
              .filter((o) => chosen.includes(o.source))
              .slice(0, 3)
              .map((o) => (
                <span key={o.id}>
                  <Link to={`/facades/${name}/${o.id}`}>{o.id}</Link>,{" "}
                </span>
              ))}
            <Link to={`/facades/${name}`}>look at all of it</Link>, then <Link to="/release">release it</Link>.
            <Findings findings={publish.data.findings.filter((f) => f.file.startsWith(`${name}/`))} />
          </Notice>
        )}
      </Sheet>
    </>
  );
}

export function Publish() {
  useTitle("Publish a backend");
  const [url, setUrl] = useState("");
  const [login, setLogin] = useState("");
  const [local, setLocal] = useState(false);
  const [text, setText] = useState("");
  const [file, setFile] = useState<File>();
  const [source, setSource] = useState<Source>({ url: "", files: {} });
  const look = useChange(async () => {
    const from: Source = file
      ? { url: "", files: {}, upload: await base64(file), name_of_upload: file.name }
      : url.trim()
        ? { url: url.trim(), login, allow_local: local, files: {} }
        : { url: "", files: { "definition.wsdl": text } };
    setSource(from);
    return api("POST /api/look", { body: from });
  });
  const host = /^(\w+:\/\/)?(localhost|127\.|\[::1|169\.254\.|0\.0\.0\.0)/.test(url.trim());
  return (
    <Page>
      <h1>Publish a backend</h1>
      <Sheet>
        <h2>Where is its definition?</h2>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            look.mutate(undefined);
          }}
          style={{ display: "grid", gap: 12 }}
        >
          <Field
            label="Address of a WSDL or an OpenAPI document, or HOST:PORT of a gRPC server"
            value={url}
            onChange={setUrl}
          />
          {(host || local) && (
            <label style={{ display: "flex", gap: 8, alignItems: "center", minHeight: 24 }}>
              <input type="checkbox" checked={local} onChange={(e) => setLocal(e.target.checked)} />
              This is an address of the porch’s own host: call it all the same
            </label>
          )}
          {url.trim() !== "" && (
            <Fold title="It asks for a name and a password">
              <Field
                label="NAME:PASSWORD for this address; not kept"
                value={login}
                onChange={setLogin}
                type="password"
                autoComplete="off"
              />
            </Fold>
          )}
          <label style={{ display: "grid", gap: 4 }}>
            Or upload it: one file, or a ZIP with all that it imports
            <input
              type="file"
              accept=".zip,.wsdl,.xml,.xsd,.yaml,.yml,.json,.proto,.pb,.bin,.desc,.txt"
              onChange={(e) => setFile(e.target.files?.[0])}
              style={{ minHeight: 28 }}
            />
          </label>
          <Fold title="Or paste it">
            <Area aria-label="Definition" rows={8} value={text} onChange={(e) => setText(e.target.value)} />
          </Fold>
          <RowOf>
            <Button type="submit" $kind="main" isDisabled={look.isPending || (!url.trim() && !text.trim() && !file)}>
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
