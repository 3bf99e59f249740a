import { useState } from "react";

import type { KeyView } from "../../api/schema";
import { Tag } from "../../parts";
import { time } from "../../parts/format";

export function KeyState({ k }: { k: KeyView }) {
  const [now] = useState(() => Date.now());
  if (k.ends_at && k.ends_at <= now) return <Tag>ended {time(k.ends_at)}</Tag>;
  if (k.paused) return <Tag $tone="warn">paused</Tag>;
  return <Tag $tone="good">{k.ends_at ? `until ${time(k.ends_at)}` : "good"}</Tag>;
}
