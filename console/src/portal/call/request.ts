import type { Found, Parameter } from "../docs/openapi";
import type { Way } from "../schema";

/** What somebody filled in. */
export interface Filled {
  /** Values of parameters, by place and name. */
  values: Record<string, string>;
  body: string;
  mediaType: string;
  key: string;
}

/** A call as it is made: nothing of it is left to be filled in. */
export interface Call {
  method: string;
  url: string;
  headers: [string, string][];
  body?: string;
}

export const idOf = (p: Parameter): string => `${p.in} ${p.name}`;

const isList = (p: Parameter): boolean => p.schema?.type === "array";

/** Values of a list are written one to a line, or with commas. */
const listOf = (text: string): string[] =>
  text
    .split(/[\n,]/)
    .map((t) => t.trim())
    .filter(Boolean);

/** A path with its variables filled in (RFC 6570 §3.2.2); `{name*}` are several segments. */
function pathOf(template: string, value: (name: string) => string): string {
  return template.replace(/\{([^}*]+)(\*?)\}/g, (_, name: string, many: string) =>
    many ? value(name).split("/").map(encodeURIComponent).join("/") : encodeURIComponent(value(name)),
  );
}

/** The call that follows from what was filled in. */
export function callOf(address: string, found: Found, ways: Way[], filled: Filled, chosen = false): Call {
  const value = (p: Parameter) => filled.values[idOf(p)] ?? "";
  const of = (place: Parameter["in"]) => found.parameters.filter((p) => p.in === place);
  const path = pathOf(found.path, (name) => filled.values[`path ${name}`] ?? "");
  const query = new URLSearchParams();
  for (const p of of("query")) {
    if (value(p) === "") continue;
    if (!isList(p)) query.append(p.name, value(p));
    else if (p.explode === false) query.append(p.name, listOf(value(p)).join(","));
    else listOf(value(p)).forEach((one) => query.append(p.name, one));
  }
  const headers: [string, string][] = [];
  for (const p of of("header")) if (value(p) !== "") headers.push([p.name, value(p)]);
  const way = ways.find((w) => w.kind === "key" || w.kind === "key-as-token");
  if (way && filled.key) {
    if (way.kind === "key-as-token") headers.push(["Authorization", `Bearer ${filled.key}`]);
    else if (way.in === "query") query.append(way.name ?? "", filled.key);
    else headers.push([way.name ?? "API-Key", filled.key]);
  }
  const hasBody = !chosen && found.operation.requestBody !== undefined && filled.body.trim() !== "";
  // A form says itself where its parts begin and end.
  if (chosen && !filled.mediaType.startsWith("multipart/")) headers.push(["Content-Type", filled.mediaType]);
  if (hasBody) headers.push(["Content-Type", filled.mediaType || "application/json"]);
  const text = query.toString();
  return {
    method: found.method,
    url: `${address}${path}${text ? `?${text}` : ""}`,
    headers,
    ...(hasBody ? { body: filled.body } : {}),
  };
}

/** Parameters that must be there and are not. */
export function missing(found: Found, filled: Filled): string[] {
  return found.parameters.filter((p) => (p.required || p.in === "path") && !filled.values[idOf(p)]).map((p) => p.name);
}
