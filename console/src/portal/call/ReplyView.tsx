import { useState } from "react";

import { Button, Code, Fold, Notice, RowOf, Soft, Tag } from "../../parts";
import { prettyXml } from "./prettyXml";
import type { Reply } from "./send";

/** JSON and XML with their lines; anything else as it is. */
function pretty(text: string, type: string): string {
  if (/[/+]xml\b/.test(type)) return prettyXml(text);
  if (!type.includes("json")) return text;
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}

/** What a limit has left, from the `RateLimit` field (a structured field: `"name";r=6;t=90`). */
function left(headers: [string, string][]): string | undefined {
  const field = headers.find(([n]) => n === "ratelimit")?.[1];
  const numbers = field && /;r=(\d+);t=(\d+)/.exec(field);
  return numbers ? `${numbers[1]} calls are left in the next ${numbers[2]} seconds` : undefined;
}

/** Title and detail of a problem document (RFC 9457). */
function problem(reply: Reply): { title?: string; detail?: string } {
  if (!reply.type.includes("problem+json") || !reply.text) return {};
  try {
    return JSON.parse(reply.text) as { title?: string; detail?: string };
  } catch {
    return {};
  }
}

export function ReplyView({ reply }: { reply: Reply }) {
  const [raw, setRaw] = useState(false);
  if (reply.status === 0) {
    return (
      <Notice $tone="bad" role="alert">
        <strong>Nothing came back.</strong> {reply.why}
      </Notice>
    );
  }
  const tone = reply.status < 300 ? "good" : reply.status < 500 ? "warn" : "bad";
  const told = problem(reply);
  const limit = left(reply.headers);
  return (
    <div role="region" aria-label="Reply" aria-live="polite">
      <RowOf>
        <Tag $tone={tone}>{reply.status}</Tag>
        <Soft>{reply.ms} ms</Soft>
        {reply.more && <Soft>more is coming…</Soft>}
        {reply.why && <Soft>{reply.why}</Soft>}
        {limit && <Soft>{limit}</Soft>}
        {reply.text !== undefined && <Button onPress={() => setRaw(!raw)}>{raw ? "Pretty" : "Raw"}</Button>}
      </RowOf>
      {told.title && (
        <Notice $tone="warn">
          <strong>{told.title}</strong> {told.detail}
        </Notice>
      )}
      {reply.text !== undefined && (
        <Code tabIndex={0} aria-label="Body of the reply">
          {raw ? reply.text : pretty(reply.text, reply.type)}
        </Code>
      )}
      {reply.bytes && reply.type.startsWith("image/") && <img src={reply.bytes} alt="The reply" />}
      {reply.bytes && (
        <p>
          <a href={reply.bytes} download>
            Keep the reply as a file
          </a>
        </p>
      )}
      <Fold title="Header fields" aside={String(reply.headers.length)}>
        <Code>{reply.headers.map(([n, v]) => `${n}: ${v}`).join("\n")}</Code>
      </Fold>
    </div>
  );
}
