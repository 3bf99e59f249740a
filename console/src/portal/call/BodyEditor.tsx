import styled from "styled-components";

import { Area, Button, Notice, RowOf, Soft } from "../../parts";
import { misfits } from "../docs/fits";
import { type Document, followed, type Schema, sampleOf } from "../docs/openapi";

/** The JSON of a text; `undefined` where it is none. */
function read(text: string): { value?: unknown; why?: string } {
  try {
    return { value: JSON.parse(text) as unknown };
  } catch (e) {
    return { why: e instanceof Error ? e.message : "It is no JSON." };
  }
}

/** A body that is written, with what of it does not fit the schema, and what may be added. */
export function BodyEditor(props: {
  document: Document;
  schema: Schema | undefined;
  mediaType: string;
  text: string;
  onChange: (text: string) => void;
}) {
  const { document, schema, text, onChange } = props;
  const isJson = /[/+]json\b/.test(props.mediaType);
  const json = isJson && text.trim() ? read(text) : {};
  const found = json.value === undefined ? [] : misfits(document, schema, json.value);
  const told = json.why ? [{ at: "", what: `is no JSON: ${json.why}` }] : found;
  return (
    <div>
      <Labelled>
        <small>Body</small>
        <Area
          rows={Math.min(24, Math.max(8, text.split("\n").length + 1))}
          spellCheck={false}
          value={text}
          aria-invalid={told.length > 0}
          aria-describedby={told.length > 0 ? "misfits" : undefined}
          onChange={(e) => onChange(e.target.value)}
        />
      </Labelled>
      {told.length > 0 && (
        <Notice $tone="warn" role="status" id="misfits">
          <ul>
            {told.map((m, i) => (
              <li key={i}>
                <code>{m.at || "the body"}</code> {m.what}
              </li>
            ))}
          </ul>
        </Notice>
      )}
      {isJson && <Missing document={document} schema={schema} value={json.value} onChange={onChange} />}
    </div>
  );
}

/** Members of the outermost object that are not there and may be. */
function Missing(props: {
  document: Document;
  schema: Schema | undefined;
  value: unknown;
  onChange: (text: string) => void;
}) {
  const { document, schema, value, onChange } = props;
  if (!schema || typeof value !== "object" || value === null || Array.isArray(value)) return null;
  const own = followed(document, schema);
  const left = Object.entries(own.properties ?? {}).filter(
    ([name, member]) => !(name in value) && !followed(document, member).readOnly,
  );
  if (left.length === 0) return null;
  const add = (name: string, member: Schema) =>
    onChange(JSON.stringify({ ...value, [name]: sampleOf(document, member, 1) }, null, 2));
  return (
    <RowOf $gap="var(--space-1)">
      <Soft>May be added:</Soft>
      {left.slice(0, 20).map(([name, member]) => (
        <Button key={name} onPress={() => add(name, member)}>
          {name}
        </Button>
      ))}
    </RowOf>
  );
}

const Labelled = styled.label`
  display: grid;
  gap: 2px;
  small {
    font-size: var(--size-s);
    color: var(--ink-soft);
  }
`;
