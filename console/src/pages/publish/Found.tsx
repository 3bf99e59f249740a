import { useState } from "react";

import type { Looked } from "../../api/schema";
import { FoundOperations } from "./FoundOperations";
import { NameIt } from "./NameIt";
import type { Source } from "./source";

/** What a definition offers: which of it is taken, and under what name. */
export function Found({ look, source }: { look: Looked; source: Source }) {
  const [chosen, setChosen] = useState(() => look.operations.filter((o) => o.available).map((o) => o.source));
  return (
    <>
      <FoundOperations look={look} chosen={chosen} onChange={setChosen} />
      <NameIt look={look} source={source} chosen={chosen} />
    </>
  );
}
