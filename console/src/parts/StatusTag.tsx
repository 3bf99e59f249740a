import { Tag } from "./Tag";

export function StatusTag({ status }: { status: number }) {
  return <Tag $tone={status < 400 ? "good" : status < 500 ? "warn" : "bad"}>{status}</Tag>;
}
