import { type Document, followed, nameOf, type Schema } from "./openapi";

const escaped = (text: string): string =>
  text.replace(/&/g, "&amp;").replace(/</g, "&lt;").replace(/>/g, "&gt;").replace(/"/g, "&quot;");

/** How a member stands in XML (OpenAPI 3.1 §4.8.26). */
interface Xml {
  name?: string;
  attribute?: boolean;
  wrapped?: boolean;
}

const xmlOf = (schema: Schema | undefined): Xml => (schema as { xml?: Xml } | undefined)?.xml ?? {};

/** A value as XML, by what the schema says of it. */
function element(document: Document, name: string, schema: Schema | undefined, value: unknown, depth: number): string {
  const own = schema ? followed(document, schema) : undefined;
  const called = xmlOf(own).name ?? name;
  const pad = "  ".repeat(depth);
  if (Array.isArray(value)) {
    const inner = xmlOf(own?.items ? followed(document, own.items) : undefined).name ?? called;
    const deeper = xmlOf(own).wrapped ? depth + 1 : depth;
    const items = value.map((v) => element(document, inner, own?.items, v, deeper)).join("\n");
    return xmlOf(own).wrapped ? `${pad}<${called}>\n${items}\n${pad}</${called}>` : items;
  }
  if (typeof value !== "object" || value === null) {
    return `${pad}<${called}>${escaped(value === null ? "" : String(value))}</${called}>`;
  }
  const members = Object.entries(value);
  const of = (member: string) => own?.properties?.[member];
  const isAttribute = (member: string) => xmlOf(of(member) ? followed(document, of(member)!) : undefined).attribute;
  const attributes = members
    .filter(([m]) => isAttribute(m))
    .map(([m, v]) => ` ${m}="${escaped(String(v))}"`)
    .join("");
  const inside = members.filter(([m]) => !isAttribute(m)).map(([m, v]) => element(document, m, of(m), v, depth + 1));
  if (inside.length === 0) return `${pad}<${called}${attributes}/>`;
  return `${pad}<${called}${attributes}>\n${inside.join("\n")}\n${pad}</${called}>`;
}

/** A value as a media type writes it. */
export function written(document: Document, type: string, schema: Schema | undefined, value: unknown): string {
  if (typeof value === "string" && !type.includes("json")) return value;
  if (/[/+]xml\b/.test(type)) return element(document, nameOf(schema?.$ref) || "document", schema, value, 0);
  if (type.includes("x-www-form-urlencoded") && typeof value === "object" && value) {
    const pairs = Object.entries(value).map(([n, v]): [string, string] => [n, String(v)]);
    return new URLSearchParams(pairs).toString();
  }
  if (/json-seq|ndjson|jsonl/.test(type)) return JSON.stringify(value);
  return JSON.stringify(value, null, 2) ?? "";
}
