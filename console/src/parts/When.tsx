import { useState } from "react";

import { Whole } from "./Layout";
import { ago, time } from "./format";

/** A time as people say it; the exact one on hover. */
export function When({ at }: { at: number }) {
  const [now] = useState(() => Date.now());
  return (
    <Whole title={time(at)}>
      <time dateTime={new Date(at).toISOString()}>{ago(at, now)}</time>
    </Whole>
  );
}
