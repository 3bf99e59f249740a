import { useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";

import { Area, Button, Code, Copy, Field, Pick, RowOf, Sheet, Soft } from "../../parts";
import { LANGUAGES } from "../code/languages";
import { type Document, followed, type Found, type Parameter, sampleOf } from "../docs/openapi";
import { holdKey, useKey } from "../keyring";
import type { OperationLine } from "../schema";
import { type Call, callOf, type Filled, idOf, missing } from "./request";
import { ReplyView } from "./ReplyView";
import { type Reply, send } from "./send";

/** The sample that a parameter is filled with: only where it must be there. */
function initial(document: Document, p: Parameter): string {
  if (!p.required && p.in !== "path") return "";
  const value = p.example ?? sampleOf(document, p.schema);
  return Array.isArray(value) ? value.join(", ") : String(value ?? "");
}

/** A form that is made from the contract, the call as code, and what came back. */
export function Caller(props: { address: string; line: OperationLine; document: Document; found: Found }) {
  const { address, line, document, found } = props;
  const body = found.operation.requestBody && followed(document, found.operation.requestBody);
  const types = Object.keys(body?.content ?? {});
  const key = useKey();
  const [filled, setFilled] = useState<Omit<Filled, "key">>(() => {
    const media = body?.content?.[types[0] ?? ""];
    const sample = media?.example ?? sampleOf(document, media?.schema);
    return {
      values: Object.fromEntries(found.parameters.map((p) => [idOf(p), initial(document, p)])),
      body: media ? JSON.stringify(sample, null, 2) : "",
      mediaType: types[0] ?? "",
    };
  });
  const [reply, setReply] = useState<Reply>();
  const [under, setUnder] = useState(false);
  const all: Filled = { ...filled, key };
  const left = missing(found, all);
  const call = callOf(address, found, line.credentials, all);
  const wantsKey = line.credentials.some((w) => w.kind === "key" || w.kind === "key-as-token");
  const set = (id: string, value: string) => setFilled({ ...filled, values: { ...filled.values, [id]: value } });
  return (
    <Sheet aria-label="Call it">
      <h2>Call it</h2>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          setUnder(true);
          void send(call).then((r) => {
            setReply(r);
            setUnder(false);
          });
        }}
      >
        <Fields>
          {wantsKey && (
            <div>
              <Field label="Your key" value={key} onChange={holdKey} type="password" autoComplete="off" />
              {!key && (
                <Soft>
                  <Link to="/applications">Make one</Link>; it stays in this page’s memory alone.
                </Soft>
              )}
            </div>
          )}
          {found.parameters
            .filter((p) => p.in !== "cookie")
            .map((p) => (
              <Value key={idOf(p)} document={document} p={p} value={filled.values[idOf(p)] ?? ""} set={set} />
            ))}
          {types.length > 1 && (
            <Pick
              label="Media type of the body"
              value={filled.mediaType}
              onChange={(mediaType) => setFilled({ ...filled, mediaType })}
              choices={types}
            />
          )}
          {body && (
            <Labelled>
              <small>Body</small>
              <Area
                rows={8}
                spellCheck={false}
                value={filled.body}
                onChange={(e) => setFilled({ ...filled, body: e.target.value })}
              />
            </Labelled>
          )}
          <RowOf>
            <Button type="submit" $kind="main" isDisabled={under || left.length > 0}>
              {under ? "Calling…" : "Call"}
            </Button>
            {left.length > 0 && <Soft>Still to be filled in: {left.join(", ")}</Soft>}
          </RowOf>
        </Fields>
      </form>
      {reply && <ReplyView reply={reply} />}
      <AsCode make={(shown) => callOf(address, found, line.credentials, { ...filled, key: shown })} ownKey={key} />
    </Sheet>
  );
}

function Value(props: { document: Document; p: Parameter; value: string; set: (id: string, value: string) => void }) {
  const { document, p, value, set } = props;
  const schema = p.schema ? followed(document, p.schema) : {};
  const label = `${p.name}${p.required ? "" : ", if wanted"}`;
  const choices = schema.enum ?? (schema.type === "boolean" ? [true, false] : undefined);
  if (choices) {
    const all = choices.map((c): [string, string] => [String(c), String(c)]);
    const none: [string, string][] = p.required ? [] : [["", "not sent"]];
    return <Pick label={label} value={value} onChange={(v) => set(idOf(p), v)} choices={[...none, ...all]} />;
  }
  const type = schema.format === "date" ? "date" : schema.type === "integer" ? "number" : "text";
  return <Field label={label} value={value} onChange={(v) => set(idOf(p), v)} type={type} />;
}

/** The same call as code. The key is shown where it is only when somebody wants that. */
function AsCode({ make, ownKey }: { make: (key: string) => Call; ownKey: string }) {
  const [name, setName] = useState("curl");
  const [withKey, setWithKey] = useState(false);
  const language = LANGUAGES.find((l) => l.name === name) ?? LANGUAGES[0]!;
  const code = language.code(make(ownKey && withKey ? ownKey : "YOUR-KEY"));
  return (
    <div>
      <RowOf>
        <Pick label="The same call in" value={name} onChange={setName} choices={LANGUAGES.map((l) => l.name)} />
        <Copy text={code} what={`the call in ${name}`} />
        {ownKey && (
          <label>
            <input type="checkbox" checked={withKey} onChange={(e) => setWithKey(e.target.checked)} /> with my key
          </label>
        )}
      </RowOf>
      <Code tabIndex={0} aria-label={`The call in ${name}`}>
        {code}
      </Code>
    </div>
  );
}

const Fields = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(min(100%, 240px), 1fr));
  gap: var(--space-3);
  align-items: start;
  > :has(textarea),
  > :last-child {
    grid-column: 1 / -1;
  }
`;

const Labelled = styled.label`
  display: grid;
  gap: 2px;
  small {
    font-size: var(--size-s);
    color: var(--ink-soft);
  }
`;
