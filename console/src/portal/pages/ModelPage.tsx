import { Link, useParams } from "react-router";

import { Code, Loaded, Sheet, Soft } from "../../parts";
import { useApi } from "../client";
import { modelPath, OfFacade } from "../docs/links";
import { type Document, type Operation, sampleOf } from "../docs/openapi";
import { SchemaView } from "../docs/SchemaView";
import { useDocument } from "../docs/useDocument";
import { Content, Method } from "../parts/Sheets";
import { useTitle } from "../parts/title";

/** The names that a part of a document refers to. */
function named(of: unknown): Set<string> {
  const found = new Set<string>();
  const texts = JSON.stringify(of) ?? "";
  for (const [, name] of texts.matchAll(/"\$ref":"#\/components\/schemas\/([^"]+)"/g)) {
    found.add(decodeURIComponent(name ?? ""));
  }
  return found;
}

/** Where a model is used: operations by themselves, and models. */
function usesOf(document: Document, model: string) {
  const operations: { id: string; method: string; summary: string }[] = [];
  for (const item of Object.values(document.paths ?? {})) {
    for (const [method, value] of Object.entries(item)) {
      const operation = value as Operation;
      if (operation?.operationId && named(operation).has(model)) {
        const { operationId: id, summary = "" } = operation;
        operations.push({ id, method: method.toUpperCase(), summary });
      }
    }
  }
  const models = Object.entries(document.components?.schemas ?? {});
  return { operations, models: models.filter(([n, s]) => n !== model && named(s).has(model)).map(([n]) => n) };
}

/** A model: its members, an example, and where it is used. */
export function ModelPage() {
  const { facade = "", model = "" } = useParams();
  const shown = useApi("GET /api/facades/{facade}", { path: { facade } });
  const document = useDocument(facade);
  useTitle(model);
  return (
    <Content>
      <Soft>
        <Link to={`/facades/${facade}`}>{shown.data?.title ?? facade}</Link> {shown.data?.version}
      </Soft>
      <h1 style={{ overflowWrap: "anywhere" }}>{model}</h1>
      <Loaded of={document}>
        {(d) => {
          const schema = d.components?.schemas?.[model];
          if (!schema) return <p>There is no such model.</p>;
          const uses = usesOf(d, model);
          return (
            <OfFacade.Provider value={facade}>
              {schema.description && <p>{schema.description}</p>}
              <Sheet aria-label="Members">
                <h2>Members</h2>
                <SchemaView document={d} schema={schema} above={[model]} />
              </Sheet>
              <Sheet aria-label="Example">
                <h2>Example</h2>
                <Code tabIndex={0} aria-label="Example">
                  {JSON.stringify(sampleOf(d, schema), null, 2)}
                </Code>
              </Sheet>
              <Sheet aria-label="Where it is used">
                <h2>Where it is used</h2>
                {uses.operations.length + uses.models.length === 0 && <Soft>By nothing directly.</Soft>}
                <ul>
                  {uses.operations.map((o) => (
                    <li key={o.id}>
                      <Method>{o.method}</Method>{" "}
                      <Link to={`/facades/${facade}/${encodeURIComponent(o.id)}`}>{o.summary || o.id}</Link>
                    </li>
                  ))}
                  {uses.models.map((m) => (
                    <li key={m}>
                      <Link to={modelPath(facade, m)}>{m}</Link>
                    </li>
                  ))}
                </ul>
              </Sheet>
            </OfFacade.Provider>
          );
        }}
      </Loaded>
    </Content>
  );
}
