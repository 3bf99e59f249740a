import { Tag } from "./Tag";

/** How a facade's draft stands to what callers are served. */
export function DraftTag({ status }: { status: string }) {
  if (status === "same") return <Tag $tone="good">served as drafted</Tag>;
  if (status === "new") return <Tag $tone="warn">not served yet</Tag>;
  if (status === "gone") return <Tag $tone="warn">served, not in the draft</Tag>;
  return <Tag $tone="warn">draft differs</Tag>;
}
