import { type Document, followed, type Schema } from "./openapi";

/** Something of a value that does not fit its schema. */
export interface Misfit {
  /** A JSON Pointer (RFC 6901). */
  at: string;
  what: string;
}

const MOST = 30;
const DEEPEST = 12;
/** So many schemas are looked at: alternatives within alternatives would be without end otherwise. */
const WORK = 20_000;

/** What was found, and what may still be looked at. */
interface Looking {
  found: Misfit[];
  work: { left: number };
}

const typeOfValue = (value: unknown): string => {
  if (value === null) return "null";
  if (Array.isArray(value)) return "array";
  return typeof value;
};

const isOf = (type: string, value: unknown): boolean =>
  type === "integer" ? Number.isInteger(value) : type === typeOfValue(value);

const step = (at: string, name: string | number): string =>
  `${at}/${String(name).replace(/~/g, "~0").replace(/\//g, "~1")}`;

/** What of a value does not fit a schema, as far as it can be told here: the gateway has the last word. */
export function misfits(document: Document, schema: Schema | undefined, value: unknown): Misfit[] {
  const at: Looking = { found: [], work: { left: WORK } };
  if (schema) look(document, schema, value, "", 0, at);
  return at.found.slice(0, MOST);
}

function look(document: Document, schema: Schema, value: unknown, at: string, depth: number, of: Looking) {
  const { found } = of;
  if (depth > DEEPEST || found.length >= MOST || of.work.left-- <= 0) return;
  const own = followed(document, schema);
  const say = (what: string) => found.push({ at, what });
  for (const part of own.allOf ?? []) look(document, part, value, at, depth + 1, of);
  const several = own.oneOf ?? own.anyOf;
  if (several && !several.some((one) => fits(document, one, value, depth, of))) say("fits none of what it may be");
  const types = own.type === undefined ? [] : [own.type].flat();
  if (types.length > 0 && !types.some((t) => isOf(t, value))) {
    say(`is ${typeOfValue(value)}, and should be ${types.join(" or ")}`);
    return;
  }
  const same = (other: unknown) => JSON.stringify(other) === JSON.stringify(value);
  if (own.const !== undefined && !same(own.const)) say(`should be ${JSON.stringify(own.const)}`);
  if (own.enum && !own.enum.some(same)) say(`should be one of ${own.enum.map(String).join(", ")}`);
  if (typeof value === "string") ofText(own, value, say);
  if (typeof value === "number") ofNumber(own, value, say);
  if (Array.isArray(value)) {
    if (own.minItems !== undefined && value.length < own.minItems) say(`has fewer than ${own.minItems}`);
    if (own.maxItems !== undefined && value.length > own.maxItems) say(`has more than ${own.maxItems}`);
    const items = own.items;
    if (items) value.slice(0, 200).forEach((v, i) => look(document, items, v, step(at, i), depth + 1, of));
    return;
  }
  if (typeof value === "object" && value !== null) ofMembers(document, own, value, at, depth, of);
}

function fits(document: Document, schema: Schema, value: unknown, depth: number, of: Looking): boolean {
  const own: Looking = { found: [], work: of.work };
  look(document, schema, value, "", depth + 1, own);
  return own.found.length === 0;
}

function ofText(own: Schema, value: string, say: (what: string) => void) {
  const length = [...value].length;
  if (own.minLength !== undefined && length < own.minLength) say(`has fewer than ${own.minLength} characters`);
  if (own.maxLength !== undefined && length > own.maxLength) say(`has more than ${own.maxLength} characters`);
  if (own.format === "date" && !/^\d{4}-\d\d-\d\d$/.test(value)) say("is no date, as in 2027-05-14");
  if (own.pattern && own.pattern.length < 200 && value.length < 200) {
    try {
      if (!new RegExp(own.pattern, "u").test(value)) say(`does not match ${own.pattern}`);
    } catch {
      // A pattern of another dialect: the gateway looks.
    }
  }
}

function ofNumber(own: Schema, value: number, say: (what: string) => void) {
  if (own.minimum !== undefined && value < own.minimum) say(`is less than ${own.minimum}`);
  if (own.maximum !== undefined && value > own.maximum) say(`is more than ${own.maximum}`);
  if (own.exclusiveMinimum !== undefined && value <= own.exclusiveMinimum) say(`is not above ${own.exclusiveMinimum}`);
  if (own.exclusiveMaximum !== undefined && value >= own.exclusiveMaximum) say(`is not below ${own.exclusiveMaximum}`);
}

function ofMembers(document: Document, own: Schema, value: object, at: string, depth: number, of: Looking) {
  const { found } = of;
  const members = new Map(Object.entries(value));
  for (const name of own.required ?? []) {
    if (!members.has(name)) found.push({ at: step(at, name), what: "is missing" });
  }
  for (const [name, member] of members) {
    if (found.length >= MOST) return;
    const known = own.properties?.[name];
    if (known) look(document, known, member, step(at, name), depth + 1, of);
    else if (own.additionalProperties === false) found.push({ at: step(at, name), what: "is not known" });
    else if (typeof own.additionalProperties === "object") {
      look(document, own.additionalProperties, member, step(at, name), depth + 1, of);
    }
  }
}
