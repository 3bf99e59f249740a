import type { Looked } from "../../api/schema";

/** How a server is called by TLS, where that is not as usual. */
export interface Tls {
  trust?: string;
  server_name?: string;
  certificate?: string;
  certificate_key?: string;
}

export interface Source extends Tls {
  url: string;
  login?: string;
  allow_local?: boolean;
  files: Record<string, string>;
  upload?: string;
  name_of_upload?: string;
  sample?: string;
  exchanges?: string;
  title?: string;
}

/** The octets of a file in base64. */
export const base64 = (file: File) =>
  new Promise<string>((resolve, reject) => {
    const reader = new FileReader();
    reader.onload = () => resolve((reader.result as string).replace(/^data:[^,]*,/, ""));
    reader.onerror = () => reject(new Error(`${file.name} cannot be read`));
    reader.readAsDataURL(file);
  });

export const nameOf = (title: string) =>
  title
    .replace(/([a-z0-9])([A-Z])/g, "$1-$2")
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "");

/** What somebody chose of an operation in place of what was proposed. */
export interface Chosen {
  id?: string;
  method?: string;
  path?: string;
}

/** Whether an address is one of the porch's own host, or of a link that only it has. */
export const isOwnHost = (address: string) => /^(\w+:\/\/)?(localhost|127\.|\[::1|169\.254\.|0\.0\.0\.0)/.test(address);

/** Whether one of the sample calls goes to the porch’s own host. */
export const samplesOwnHost = (sample: string) =>
  sample.split(/[\s'"]+/).some((word) => /^(https?:|localhost|127\.)/.test(word) && isOwnHost(word));

/** What is derived from: what followed from sample calls, which are not made again. */
export const described = (source: Source, look: Looked): Source =>
  Object.keys(look.described).length > 0 ? { ...source, files: look.described } : source;

/** What another server than the one that was looked at is not given. */
export const elsewhere = { login: "", server_name: "", certificate: "", certificate_key: "" };

/** Whether two addresses are of one server: a login is for its own alone. */
export const sameServer = (a: string, b: string) => {
  try {
    return new URL(a).origin === new URL(b).origin;
  } catch {
    return false;
  }
};
