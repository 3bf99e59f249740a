import styled from "styled-components";

import { Fold, Soft, Tag } from "../../parts";
import { type Document, followed, limitsOf, nameOf, type Schema } from "./openapi";
import { TypeName } from "./TypeName";

/** So deep are members shown; what is deeper has a name. */
const DEEPEST = 8;

/** The members of a schema, those of lists and of parts among them. */
function membersOf(
  document: Document,
  schema: Schema,
  depth = 0,
): { properties: [string, Schema][]; required: string[] } {
  if (depth > DEEPEST) return { properties: [], required: [] };
  const own = followed(document, schema);
  const properties = Object.entries(own.properties ?? {});
  const required = [...(own.required ?? [])];
  for (const part of own.allOf ?? []) {
    const more = membersOf(document, part, depth + 1);
    properties.push(...more.properties);
    required.push(...more.required);
  }
  return { properties, required };
}

/** What a value looks like: its members, with what must be there and what holds of each. */
export function SchemaView(props: { document: Document; schema: Schema; above?: string[] }) {
  const { document, schema } = props;
  const above = props.above ?? [];
  const own = followed(document, schema);
  if (own.items && above.length < DEEPEST) {
    return <SchemaView document={document} schema={own.items} above={[...above, nameOf(own.items.$ref)]} />;
  }
  const several = own.oneOf ?? own.anyOf;
  if (several && !own.properties) {
    return (
      <Members>
        {several.map((one, i) => (
          <li key={i}>
            <Soft>either</Soft> <TypeName document={document} schema={one} />
            <Nested
              document={document}
              schema={one}
              above={above}
              name={one.$ref ? nameOf(one.$ref) : `way ${i + 1}`}
            />
          </li>
        ))}
      </Members>
    );
  }
  const { properties, required } = membersOf(document, schema);
  if (properties.length === 0) return null;
  return (
    <Members>
      {properties.map(([name, member]) => {
        const what = followed(document, member);
        const limits = limitsOf(what);
        return (
          <li key={name}>
            <code>
              <b>{name}</b>
            </code>{" "}
            <TypeName document={document} schema={member} />{" "}
            {required.includes(name) && <Tag $tone="accent">required</Tag>}
            {limits.length > 0 && <Soft> {limits.join("; ")}</Soft>}
            {what.description && <p>{what.description}</p>}
            <Nested document={document} schema={member} above={above} name={name} />
          </li>
        );
      })}
    </Members>
  );
}

/** Members of a member, which open; what is inside of itself is named and not opened again. */
function Nested(props: { document: Document; schema: Schema; above: string[]; name: string }) {
  const { document, schema, above } = props;
  let inner = schema;
  for (let i = 0; i < 3; i++) {
    const own = followed(document, inner);
    if (!own.items) break;
    inner = own.items;
  }
  const name = nameOf(inner.$ref);
  if (name && above.includes(name)) return <Soft> as {name} above</Soft>;
  const own = followed(document, inner);
  const has = membersOf(document, inner).properties.length > 0 || (own.oneOf ?? own.anyOf ?? []).length > 0;
  if (!has || above.length >= DEEPEST) return null;
  return (
    <Fold title={<Soft>members of {props.name}</Soft>} open={above.length < 1}>
      <SchemaView document={document} schema={inner} above={[...above, name || props.name]} />
    </Fold>
  );
}

const Members = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0 0 0 var(--space-3);
  border-left: 2px solid var(--line);
  display: grid;
  gap: var(--space-2);
  overflow-wrap: anywhere;
`;
