import { Field, Soft } from "../../parts";
import { type Document, followed, type Schema } from "../docs/openapi";

/** Parts of a form, or one file alone (under an empty name). */
export type Parts = Record<string, string | File[]>;

/** Whether a media type's bodies are chosen rather than written. */
export const isChosen = (mediaType: string): boolean =>
  mediaType.startsWith("multipart/") ||
  (mediaType !== "" && !/json|xml|text|yaml|csv|javascript|x-www-form-urlencoded/.test(mediaType));

const isFile = (schema: Schema): boolean =>
  schema.format === "binary" || ("contentMediaType" in schema && schema.type !== "object") || schema.type === undefined;

/** Fields of a form with files, or one file. */
export function FileBody(props: {
  document: Document;
  schema: Schema | undefined;
  mediaType: string;
  parts: Parts;
  onChange: (parts: Parts) => void;
}) {
  const { document, mediaType, parts, onChange } = props;
  const set = (name: string, value: string | File[]) => onChange({ ...parts, [name]: value });
  if (!mediaType.startsWith("multipart/")) {
    return <Choose label={`File (${mediaType})`} onChange={(files) => set("", files)} />;
  }
  const own = props.schema ? followed(document, props.schema) : {};
  return Object.entries(own.properties ?? {}).map(([name, member]) => {
    const of = followed(document, member);
    const inner = of.items ? followed(document, of.items) : of;
    const label = `${name}${own.required?.includes(name) ? "" : ", if wanted"}`;
    if (isFile(inner)) {
      return <Choose key={name} label={label} many={of.type === "array"} onChange={(files) => set(name, files)} />;
    }
    const value = parts[name];
    return (
      <Field
        key={name}
        label={label}
        value={typeof value === "string" ? value : ""}
        onChange={(text) => set(name, text)}
      />
    );
  });
}

function Choose(props: { label: string; many?: boolean; onChange: (files: File[]) => void }) {
  return (
    <label style={{ display: "grid", gap: 2 }}>
      <Soft>{props.label}</Soft>
      <input type="file" multiple={props.many} onChange={(e) => props.onChange([...(e.target.files ?? [])])} />
    </label>
  );
}

/** The body that follows. */
export function bodyOf(mediaType: string, parts: Parts): FormData | File | undefined {
  if (!mediaType.startsWith("multipart/")) {
    const only = parts[""];
    return Array.isArray(only) ? only[0] : undefined;
  }
  const form = new FormData();
  for (const [name, value] of Object.entries(parts)) {
    if (Array.isArray(value)) value.forEach((file) => form.append(name, file));
    else if (value !== "") form.append(name, value);
  }
  return form;
}

const quoted = (text: string): string => `'${text.replace(/'/g, "'\\''")}'`;

/** The same as options of curl. */
export function curlOf(mediaType: string, parts: Parts): string {
  if (!mediaType.startsWith("multipart/")) {
    const only = parts[""];
    const name = Array.isArray(only) ? only[0]?.name : undefined;
    return `--data-binary ${quoted(`@${name ?? "FILE"}`)}`;
  }
  const all = Object.entries(parts).flatMap(([name, value]) =>
    Array.isArray(value)
      ? value.map((file) => `--form ${quoted(`${name}=@${file.name}`)}`)
      : [`--form-string ${quoted(`${name}=${value}`)}`],
  );
  return all.join(" ");
}
