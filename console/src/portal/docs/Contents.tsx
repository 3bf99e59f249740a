import { Code, Fold, Soft } from "../../parts";
import { type Document, followed, type Media, sampleOf } from "./openapi";
import { SchemaView } from "./SchemaView";
import { TypeName } from "./TypeName";
import { written } from "./written";

/** The examples of a media type: the contract's own, or one that is made from its schema. */
export function examplesOf(document: Document, type: string, media: Media): [string, string][] {
  const own = Object.entries(media.examples ?? {}).map(([name, e]): [string, unknown] => [
    name,
    followed(document, e as { $ref?: string; value?: unknown }).value,
  ]);
  const all = own.filter(([, value]) => value !== undefined);
  if (media.example !== undefined) all.unshift(["example", media.example]);
  if (all.length === 0 && media.schema) all.push(["made from the schema", sampleOf(document, media.schema)]);
  return all.map(([name, value]) => [name, written(document, type, media.schema, value)]);
}

/** What a body is in each of its media types: its members and examples. */
export function Contents({ document, content }: { document: Document; content: Record<string, Media> }) {
  return Object.entries(content).map(([type, media]) => (
    <div key={type}>
      <code>{type}</code> {media.schema && <TypeName document={document} schema={media.schema} />}
      {media.schema && <SchemaView document={document} schema={media.schema} />}
      {examplesOf(document, type, media).map(([name, text]) => (
        <Fold
          key={name}
          title={<Soft>{name === "example" || name.startsWith("made") ? "example" : `example “${name}”`}</Soft>}
        >
          <Code tabIndex={0} aria-label={`Example in ${type}`}>
            {text}
          </Code>
        </Fold>
      ))}
    </div>
  ));
}
