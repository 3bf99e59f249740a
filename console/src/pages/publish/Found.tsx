import { useState } from "react";
import { useSearchParams } from "react-router";

import type { Looked } from "../../api/schema";
import { FoundOperations } from "./FoundOperations";
import { NameIt } from "./NameIt";
import { UpdateIt } from "./UpdateIt";
import type { Chosen, Source } from "./source";

/** What a definition offers: which of it is taken, and under what name. */
export function Found({ look, source }: { look: Looked; source: Source }) {
  const [chosen, setChosen] = useState(() => look.operations.filter((o) => o.available).map((o) => o.source));
  const [asked] = useSearchParams();
  // Whoever comes from a facade's page came for that.
  const forOne = asked.get("facade") !== null;
  const [shapes, setShapes] = useState<Record<string, Chosen>>({});
  return (
    <>
      <FoundOperations look={look} chosen={chosen} onChange={setChosen} shapes={shapes} onShapes={setShapes} />
      {forOne && <UpdateIt look={look} source={source} />}
      <NameIt look={look} source={source} chosen={chosen} shapes={shapes} />
      {!forOne && <UpdateIt look={look} source={source} />}
    </>
  );
}
