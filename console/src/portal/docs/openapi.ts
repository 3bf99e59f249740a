/** As much of OpenAPI 3.1 and JSON Schema 2020-12 as the pages show. */

export interface Schema {
  $ref?: string;
  type?: string | string[];
  format?: string;
  title?: string;
  description?: string;
  properties?: Record<string, Schema>;
  required?: string[];
  items?: Schema;
  enum?: unknown[];
  const?: unknown;
  default?: unknown;
  examples?: unknown[];
  example?: unknown;
  minimum?: number;
  maximum?: number;
  exclusiveMinimum?: number;
  exclusiveMaximum?: number;
  multipleOf?: number;
  minLength?: number;
  maxLength?: number;
  pattern?: string;
  minItems?: number;
  maxItems?: number;
  uniqueItems?: boolean;
  additionalProperties?: Schema | boolean;
  allOf?: Schema[];
  oneOf?: Schema[];
  anyOf?: Schema[];
  readOnly?: boolean;
  writeOnly?: boolean;
  deprecated?: boolean;
}

export interface Parameter {
  $ref?: string;
  name: string;
  in: "path" | "query" | "header" | "cookie";
  required?: boolean;
  description?: string;
  deprecated?: boolean;
  schema?: Schema;
  example?: unknown;
  style?: string;
  explode?: boolean;
}

export interface Media {
  schema?: Schema;
  example?: unknown;
  examples?: Record<string, { value?: unknown }>;
}

export interface Answer {
  $ref?: string;
  description?: string;
  content?: Record<string, Media>;
  headers?: Record<string, { description?: string; schema?: Schema }>;
}

export interface Operation {
  operationId?: string;
  summary?: string;
  description?: string;
  deprecated?: boolean;
  parameters?: Parameter[];
  requestBody?: { $ref?: string; required?: boolean; description?: string; content?: Record<string, Media> };
  responses?: Record<string, Answer>;
}

export interface Document {
  paths?: Record<string, Record<string, unknown>>;
  components?: { schemas?: Record<string, Schema> };
}

/** What a reference leads to; a reference to a reference is followed a few times. */
export function followed<T extends { $ref?: string }>(document: Document, of: T): T {
  let at: T = of;
  for (let i = 0; i < 5 && at.$ref?.startsWith("#/"); i++) {
    let found: unknown = document;
    for (const part of at.$ref.slice(2).split("/")) {
      const name = decodeURIComponent(part).replace(/~1/g, "/").replace(/~0/g, "~");
      found = typeof found === "object" && found ? (found as Record<string, unknown>)[name] : undefined;
    }
    if (typeof found !== "object" || !found) return of;
    at = found as T;
  }
  return at;
}

/** The name of what a reference leads to. */
export const nameOf = (ref: string | undefined): string => decodeURIComponent(ref?.split("/").at(-1) ?? "");

/** An operation with its method, its path, and the parameters of the path too. */
export interface Found {
  method: string;
  path: string;
  operation: Operation;
  parameters: Parameter[];
}

export function find(document: Document, id: string): Found | undefined {
  for (const [path, item] of Object.entries(document.paths ?? {})) {
    for (const [method, value] of Object.entries(item)) {
      const operation = value as Operation;
      if (operation?.operationId !== id) continue;
      const shared = (item.parameters as Parameter[] | undefined) ?? [];
      const own = (operation.parameters ?? []).map((p) => followed(document, p));
      const both = shared
        .map((p) => followed(document, p))
        .filter((p) => !own.some((o) => o.name === p.name && o.in === p.in));
      return { method: method.toUpperCase(), path, operation, parameters: [...both, ...own] };
    }
  }
  return undefined;
}

/** The type of a schema in words. */
export function typeOf(document: Document, schema: Schema, depth = 0): string {
  // What is a list of itself has no name that ends.
  if (depth > 5) return nameOf(schema.$ref) || "values";
  const own = followed(document, schema);
  if (own.const !== undefined) return JSON.stringify(own.const);
  const several = own.oneOf ?? own.anyOf;
  if (several)
    return several
      .slice(0, 20)
      .map((s) => typeOf(document, s, depth + 3))
      .join(" or ");
  const types = Array.isArray(own.type) ? own.type : [own.type ?? (own.properties ? "object" : "any value")];
  const named = (type: string) => {
    if (type === "array") return `list of ${own.items ? typeOf(document, own.items, depth + 1) : "values"}`;
    if (type === "string" && own.format) return `${own.format}`;
    if (type === "object" && schema.$ref) return nameOf(schema.$ref);
    return type === "string" ? "text" : type === "integer" ? "whole number" : type;
  };
  return types.map(named).join(" or ");
}

/** What holds of a value besides its type, in words. */
export function limitsOf(schema: Schema): string[] {
  const told: string[] = [];
  const say = (value: number | undefined, words: (n: number) => string) => {
    if (value !== undefined) told.push(words(value));
  };
  say(schema.minimum, (n) => `at least ${n}`);
  say(schema.exclusiveMinimum, (n) => `more than ${n}`);
  say(schema.maximum, (n) => `at most ${n}`);
  say(schema.exclusiveMaximum, (n) => `less than ${n}`);
  say(schema.multipleOf, (n) => `in steps of ${n}`);
  say(schema.minLength, (n) => `at least ${n} characters`);
  say(schema.maxLength, (n) => `at most ${n} characters`);
  say(schema.minItems, (n) => `at least ${n} of them`);
  say(schema.maxItems, (n) => `at most ${n} of them`);
  if (schema.uniqueItems) told.push("each once");
  if (schema.pattern) told.push(`as ${schema.pattern}`);
  if (schema.enum) told.push(`one of ${schema.enum.map((v) => String(v)).join(", ")}`);
  if (schema.default !== undefined) told.push(`${JSON.stringify(schema.default)} unless given`);
  if (schema.readOnly) told.push("only in replies");
  if (schema.writeOnly) told.push("only in requests");
  if (schema.deprecated) told.push("going away");
  return told;
}

/** A value that fits a schema: an example of it, or one made from it. */
export function sampleOf(document: Document, schema: Schema | undefined, depth = 0, work = { left: 500 }): unknown {
  if (!schema || depth > 6 || work.left-- <= 0) return null;
  const own = followed(document, schema);
  if (own.examples?.length) return own.examples[0];
  if (own.example !== undefined) return own.example;
  if (own.const !== undefined) return own.const;
  if (own.enum?.length) return own.enum[0];
  if (own.default !== undefined) return own.default;
  if (own.allOf) {
    const parts = own.allOf.map((s) => sampleOf(document, s, depth + 1, work));
    return Object.assign({}, ...parts.filter((p) => typeof p === "object"));
  }
  const several = own.oneOf ?? own.anyOf;
  if (several?.length) return sampleOf(document, several[0], depth + 1, work);
  const type = Array.isArray(own.type) ? own.type.find((t) => t !== "null") : own.type;
  if (own.properties || type === "object") {
    const made: Record<string, unknown> = {};
    for (const [name, member] of Object.entries(own.properties ?? {})) {
      const wanted = own.required?.includes(name) || depth === 0;
      if (wanted && !followed(document, member).readOnly) made[name] = sampleOf(document, member, depth + 1, work);
    }
    return made;
  }
  if (type === "array") return own.items ? [sampleOf(document, own.items, depth + 1, work)] : [];
  if (type === "integer" || type === "number") return own.minimum ?? 1;
  if (type === "boolean") return true;
  return sampleText(own);
}

function sampleText(schema: Schema): string {
  switch (schema.format) {
    case "date":
      return "2027-05-14";
    case "date-time":
      return "2027-05-14T08:30:00Z";
    case "uuid":
      return "00000000-0000-4000-8000-000000000017";
    case "email":
      return "nils@example.org";
    default:
      return "text".padEnd(schema.minLength ?? 0, "x");
  }
}
