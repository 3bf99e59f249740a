import { useState } from "react";

import { Button, Code, RowOf, Soft, Tag } from "../../parts";
import { useApi } from "../client";
import { examplesOf } from "../docs/Contents";
import { type Document, followed, type Found } from "../docs/openapi";

/** An example answer in place of a call: for who has no key yet. */
export function Example({ document, found }: { document: Document; found: Found }) {
  const portal = useApi("GET /api/portal");
  const [shown, setShown] = useState(false);
  const good = Object.entries(found.operation.responses ?? {}).find(([status]) => /^2/.test(status));
  if (!portal.data?.examples || !good) return null;
  const [status, reply] = good;
  const [type, media] = Object.entries(followed(document, reply).content ?? {})[0] ?? ["", {}];
  const text = type ? (examplesOf(document, type, media)[0]?.[1] ?? "") : "";
  return (
    <div>
      <RowOf>
        <Button onPress={() => setShown(!shown)}>
          {shown ? "Hide the example" : "Show an example answer, without a key"}
        </Button>
      </RowOf>
      {shown && (
        <div role="region" aria-label="Example answer">
          <RowOf>
            <Tag $tone="good">{status}</Tag>
            <Soft>{type}; an example from the contract: nothing was called</Soft>
          </RowOf>
          {text && (
            <Code tabIndex={0} aria-label="Body of the example">
              {text}
            </Code>
          )}
        </div>
      )}
    </div>
  );
}
