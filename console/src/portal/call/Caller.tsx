import { useRef, useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";

import { Button, Field, Pick, RowOf, Sheet, Soft } from "../../parts";
import { type Document, followed, type Found, type Media, type Parameter, sampleOf } from "../docs/openapi";
import { written } from "../docs/written";
import { holdKey, useKey } from "../keyring";
import type { OperationLine } from "../schema";
import { AsCode } from "./AsCode";
import { BodyEditor } from "./BodyEditor";
import { Example } from "./Example";
import { bodyOf, FileBody, isChosen, type Parts } from "./FileBody";
import { callOf, type Filled, idOf, missing } from "./request";
import { ReplyView } from "./ReplyView";
import { type Reply, send } from "./send";
import { Value } from "./Value";

/** The sample that a parameter is filled with: only where it must be there. */
function initial(document: Document, p: Parameter): string {
  if (!p.required && p.in !== "path") return "";
  const value = p.example ?? sampleOf(document, p.schema);
  return Array.isArray(value) ? value.join(", ") : String(value ?? "");
}

/** The body that somebody begins with, as its media type writes it. */
function begin(document: Document, mediaType: string, media: Media | undefined): string {
  if (!media || isChosen(mediaType)) return "";
  const named = Object.values(media.examples ?? {})[0]?.value;
  return written(document, mediaType, media.schema, media.example ?? named ?? sampleOf(document, media.schema));
}

/** A form that is made from the contract, the call as code, and what came back. */
export function Caller(props: { address: string; line: OperationLine; document: Document; found: Found }) {
  const { address, line, document, found } = props;
  const body = found.operation.requestBody && followed(document, found.operation.requestBody);
  const content = body?.content ?? {};
  const types = Object.keys(content);
  const key = useKey();
  const [filled, setFilled] = useState<Omit<Filled, "key">>(() => ({
    values: Object.fromEntries(found.parameters.map((p) => [idOf(p), initial(document, p)])),
    body: begin(document, types[0] ?? "", content[types[0] ?? ""]),
    mediaType: types[0] ?? "",
  }));
  const [parts, setParts] = useState<Parts>({});
  const { reply, under, call, stop } = useCalling();
  const { mediaType } = filled;
  const chosen = body !== undefined && isChosen(mediaType);
  const made = (shown: string) => callOf(address, found, line.credentials, { ...filled, key: shown }, chosen);
  const left = missing(found, { ...filled, key });
  const wantsKey = line.credentials.some((w) => w.kind === "key" || w.kind === "key-as-token");
  const set = (id: string, value: string) => setFilled({ ...filled, values: { ...filled.values, [id]: value } });
  return (
    <Sheet aria-label="Call it">
      <h2>Call it</h2>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          call({ ...made(key), chosen: chosen ? bodyOf(mediaType, parts) : undefined });
        }}
      >
        <Fields>
          {wantsKey && <OwnKey value={key} />}
          {found.parameters
            .filter((p) => p.in !== "cookie")
            .map((p) => (
              <Value key={idOf(p)} document={document} p={p} value={filled.values[idOf(p)] ?? ""} set={set} />
            ))}
          {types.length > 1 && (
            <Pick
              label="Media type of the body"
              value={mediaType}
              onChange={(t) => setFilled({ ...filled, mediaType: t, body: begin(document, t, content[t]) })}
              choices={types}
            />
          )}
          {body && chosen && (
            <FileBody
              document={document}
              schema={content[mediaType]?.schema}
              mediaType={mediaType}
              parts={parts}
              onChange={setParts}
            />
          )}
          {body && !chosen && (
            <BodyEditor
              document={document}
              schema={content[mediaType]?.schema}
              mediaType={mediaType}
              text={filled.body}
              onChange={(text) => setFilled({ ...filled, body: text })}
            />
          )}
          <RowOf>
            <Button type="submit" $kind="main" isDisabled={under || left.length > 0}>
              {under ? "Calling…" : "Call"}
            </Button>
            {under && <Button onPress={stop}>Stop</Button>}
            {left.length > 0 && <Soft>Still to be filled in: {left.join(", ")}</Soft>}
          </RowOf>
        </Fields>
      </form>
      {reply && <ReplyView reply={reply} />}
      <Example document={document} found={found} />
      <AsCode make={made} ownKey={key} chosen={chosen ? [mediaType, parts] : undefined} />
    </Sheet>
  );
}

/** A call under way, what has come of it, and how it is stopped. */
function useCalling() {
  const [reply, setReply] = useState<Reply>();
  const [under, setUnder] = useState(false);
  const stopper = useRef(new AbortController());
  const call = (what: Parameters<typeof send>[0]) => {
    const own = new AbortController();
    stopper.current = own;
    setUnder(true);
    void send(what, setReply, own.signal).then((r) => {
      setReply(r);
      setUnder(false);
    });
  };
  return { reply, under, call, stop: () => stopper.current.abort() };
}

function OwnKey({ value }: { value: string }) {
  return (
    <div>
      <Field label="Your key" value={value} onChange={holdKey} type="password" autoComplete="off" />
      {!value && (
        <Soft>
          <Link to="/applications">Make one</Link>; it stays in this page’s memory alone.
        </Soft>
      )}
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
