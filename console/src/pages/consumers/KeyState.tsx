import { useState } from "react";

import type { KeyView } from "../../api/schema";
import { Tag } from "../../parts";
import { ago, time } from "../../parts/format";
import { hasEnded } from "./ended";

export function KeyState({ k }: { k: KeyView }) {
  const [now] = useState(() => Date.now());
  const exact = k.ends_at ? time(k.ends_at) : undefined;
  if (k.ends_at && hasEnded(k, now)) return <Tag title={exact}>ended {ago(k.ends_at, now)}</Tag>;
  if (k.paused) return <Tag $tone="warn">paused</Tag>;
  return (
    <Tag $tone="good" title={exact}>
      {k.ends_at ? `ends ${ago(k.ends_at, now)}` : "good"}
    </Tag>
  );
}
