import { Link, useParams } from "react-router";

import { Fold, Loaded, Notice, Sheet, Soft, Table, Tag } from "../../parts";
import { Caller } from "../call/Caller";
import { useApi } from "../client";
import { Contents } from "../docs/Contents";
import { OfFacade } from "../docs/links";
import { type Document, find, type Found, followed, limitsOf, typeOf } from "../docs/openapi";
import { useDocument } from "../docs/useDocument";
import { datesOf } from "../parts/Changes";
import { Content, Method } from "../parts/Sheets";
import { useTitle } from "../parts/title";
import type { OperationLine, ProblemKind, ShownFacade } from "../schema";

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
    <OfFacade.Provider value={facade.name}>
      <div>
        <Soft>
          <Link to={`/facades/${facade.name}`}>{facade.title}</Link> {facade.version}
        </Soft>
        <h1>{line.summary || line.id}</h1>
        <p style={{ overflowWrap: "anywhere" }}>
          <Method>{found.method}</Method> <code>{facade.address + found.path}</code>
        </p>
        {line.deprecated && (
          <Notice $tone="warn">This operation is going away. Do not begin to use it. {datesOf(line)}</Notice>
        )}
        {!line.deprecated && line.sunset && <Notice $tone="warn">{datesOf(line)}</Notice>}
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
    </OfFacade.Provider>
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
      <Contents document={document} content={body.content ?? {}} />
    </Sheet>
  );
}

/** What callers do about a status that has no kinds of problems of its own. */
const TODO: Record<string, string> = {
  "404": "Look whether what was asked for is there.",
  "409": "Look at how things stand, and try something else.",
};

function Replies(props: { document: Document; found: Found }) {
  const { document, found } = props;
  const kinds = useApi("GET /api/problems");
  const responses = Object.entries(found.operation.responses ?? {});
  const told = new Set(responses.map(([status]) => status));
  return (
    <Sheet aria-label="Replies">
      <h2>Replies</h2>
      {responses.map(([status, reply]) => {
        const own = followed(document, reply);
        const isGood = status.startsWith("2") || status.startsWith("3");
        const headers = Object.entries(own.headers ?? {});
        return (
          <div key={status}>
            <h3>
              <Tag $tone={isGood ? "good" : "bad"}>{status}</Tag> {own.description}
            </h3>
            {!isGood && TODO[status] && <p>{TODO[status]}</p>}
            {!isGood && <Kinds of={(kinds.data ?? []).filter((k) => String(k.status) === status)} />}
            {headers.length > 0 && (
              <p>
                Header fields:{" "}
                {headers.map(([name, h]) => `${name}${h.description ? ` (${h.description})` : ""}`).join(", ")}
              </p>
            )}
            <Contents document={document} content={own.content ?? {}} />
          </div>
        );
      })}
      <Fold title="Whatever is refused, and what to do" aside="problem documents (RFC 9457)">
        <Kinds of={(kinds.data ?? []).filter((k) => !told.has(String(k.status)))} />
      </Fold>
    </Sheet>
  );
}

/** Kinds of problems with what to do about each. */
function Kinds({ of }: { of: ProblemKind[] }) {
  if (of.length === 0) return null;
  return (
    <Table
      label="Kinds of problems"
      plain
      head={["Status", "Type", "What to do"]}
      empty=""
      rows={of.map((k) => ({
        key: k.type,
        cells: [
          k.status,
          <code key="t" style={{ overflowWrap: "anywhere" }}>
            {k.type}
          </code>,
          k.todo,
        ],
      }))}
    />
  );
}
