import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";

import { Loaded, Notice, Sheet, Soft, Table, Tag } from "../../parts";
import { Caller } from "../call/Caller";
import { ApiError, useApi } from "../client";
import { type Document, find, type Found, followed, limitsOf, typeOf } from "../docs/openapi";
import { SchemaView } from "../docs/SchemaView";
import { Content, Method } from "../parts/Sheets";
import { useTitle } from "../parts/title";
import type { OperationLine, ShownFacade } from "../schema";

/** The OpenAPI document of a facade. */
function useDocument(facade: string) {
  return useQuery<Document, ApiError>({
    queryKey: ["openapi", facade],
    queryFn: async () => {
      const answer = await fetch(`/facades/${encodeURIComponent(facade)}/openapi.json`);
      if (!answer.ok) throw new ApiError(answer.status, "There is no document of this API", "", []);
      return (await answer.json()) as Document;
    },
  });
}

export function OperationPage() {
  const { facade = "", operation = "" } = useParams();
  const shown = useApi("GET /api/facades/{facade}", { path: { facade } });
  const document = useDocument(facade);
  const line = shown.data?.operations.find((o) => o.id === operation);
  useTitle(line?.summary || operation);
  return (
    <Content>
      <Loaded of={shown}>
        {(f) => (
          <Loaded of={document}>
            {(d) => {
              const found = find(d, operation);
              if (!found || !line) return <p>There is no such operation.</p>;
              return <One facade={f} line={line} document={d} found={found} />;
            }}
          </Loaded>
        )}
      </Loaded>
    </Content>
  );
}

function One(props: { facade: ShownFacade; line: OperationLine; document: Document; found: Found }) {
  const { facade, line, document, found } = props;
  return (
    <>
      <div>
        <Soft>
          <Link to={`/facades/${facade.name}`}>{facade.title}</Link> {facade.version}
        </Soft>
        <h1>{line.summary || line.id}</h1>
        <p style={{ overflowWrap: "anywhere" }}>
          <Method>{found.method}</Method> <code>{facade.address + found.path}</code>
        </p>
        {line.deprecated && <Notice $tone="warn">This operation is going away. Do not begin to use it.</Notice>}
        {found.operation.description && <p>{found.operation.description}</p>}
        <p>
          {line.credentials.length > 0
            ? `Callers show ${line.credentials.map((c) => c.how).join(", or ")}.`
            : "Nobody is asked for a key."}
        </p>
      </div>
      <Caller
        key={`${facade.name} ${line.id}`}
        address={facade.address}
        line={line}
        document={document}
        found={found}
      />
      <Parameters document={document} found={found} />
      <Body document={document} found={found} />
      <Replies document={document} found={found} />
    </>
  );
}

function Parameters({ document, found }: { document: Document; found: Found }) {
  if (found.parameters.length === 0) return null;
  return (
    <Sheet aria-label="Parameters">
      <h2>Parameters</h2>
      <Table
        label="Parameters"
        plain
        head={["Name", "Where", "Type", "What holds of it", "What it is"]}
        empty=""
        rows={found.parameters.map((p) => ({
          key: `${p.in} ${p.name}`,
          cells: [
            <span key="n">
              <code>{p.name}</code> {p.required && <Tag $tone="accent">required</Tag>}
            </span>,
            p.in,
            p.schema ? typeOf(document, p.schema) : "text",
            p.schema ? limitsOf(followed(document, p.schema)).join("; ") : "",
            p.description ?? "",
          ],
        }))}
      />
    </Sheet>
  );
}

function Body({ document, found }: { document: Document; found: Found }) {
  if (!found.operation.requestBody) return null;
  const body = followed(document, found.operation.requestBody);
  return (
    <Sheet aria-label="Body">
      <h2>Body {body.required && <Tag $tone="accent">required</Tag>}</h2>
      {body.description && <p>{body.description}</p>}
      {Object.entries(body.content ?? {}).map(([type, media]) => (
        <div key={type}>
          <code>{type}</code> {media.schema && <Soft>{typeOf(document, media.schema)}</Soft>}
          {media.schema && <SchemaView document={document} schema={media.schema} />}
        </div>
      ))}
    </Sheet>
  );
}

/** What callers do about a status, where it is no good one. */
const TODO: Record<string, string> = {
  "400": "Mend the request: the reply lists what is wrong as “errors”.",
  "401": "Show a credential that is good.",
  "403": "Ask for an offer that opens it, or for the role that it needs.",
  "404": "Look whether what was asked for is there.",
  "409": "Look at how things stand, and try something else.",
  "429": "Wait as long as Retry-After says.",
  "503": "Try again later: Retry-After says when, if it is known.",
  default: "Whatever else comes is a problem document (RFC 9457): its “type” says which.",
};

function Replies({ document, found }: { document: Document; found: Found }) {
  return (
    <Sheet aria-label="Replies">
      <h2>Replies</h2>
      {Object.entries(found.operation.responses ?? {}).map(([status, reply]) => {
        const own = followed(document, reply);
        const isGood = status.startsWith("2") || status.startsWith("3");
        return (
          <div key={status}>
            <h3>
              <Tag $tone={isGood ? "good" : "bad"}>{status}</Tag> {own.description}
            </h3>
            {!isGood && TODO[status] && <p>{TODO[status]}</p>}
            {Object.entries(own.content ?? {}).map(([type, media]) => (
              <div key={type}>
                <code>{type}</code> {media.schema && <Soft>{typeOf(document, media.schema)}</Soft>}
                {media.schema && <SchemaView document={document} schema={media.schema} />}
              </div>
            ))}
          </div>
        );
      })}
    </Sheet>
  );
}
