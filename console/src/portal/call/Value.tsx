import { Field, Pick } from "../../parts";
import { type Document, followed, type Parameter } from "../docs/openapi";
import { idOf } from "./request";

/** The value of a parameter, by its type. */
export function Value(props: {
  document: Document;
  p: Parameter;
  value: string;
  set: (id: string, value: string) => void;
}) {
  const { document, p, value, set } = props;
  const schema = p.schema ? followed(document, p.schema) : {};
  const label = `${p.name}${p.required ? "" : ", if wanted"}`;
  const choices = schema.enum ?? (schema.type === "boolean" ? [true, false] : undefined);
  if (choices) {
    const all = choices.map((c): [string, string] => [String(c), String(c)]);
    const none: [string, string][] = p.required ? [] : [["", "not sent"]];
    return <Pick label={label} value={value} onChange={(v) => set(idOf(p), v)} choices={[...none, ...all]} />;
  }
  const type = schema.format === "date" ? "date" : schema.type === "integer" ? "number" : "text";
  return <Field label={label} value={value} onChange={(v) => set(idOf(p), v)} type={type} />;
}
