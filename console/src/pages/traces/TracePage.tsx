import { Link, useParams } from "react-router";

import { useApi } from "../../api/client";
import { Loaded, Page, Soft } from "../../parts";
import { useTitle } from "../../parts/title";
import { TraceShown } from "./TraceShown";

export function TracePage() {
  const { id = "" } = useParams();
  useTitle(`Exchange ${id.slice(0, 12)}`);
  const trace = useApi("GET /api/traces/{id}", { path: { id } });
  return (
    <Page>
      <Soft>
        <Link to="/traces">Traces</Link> / {id}
      </Soft>
      <Loaded of={trace}>{(data) => <TraceShown data={data} />}</Loaded>
    </Page>
  );
}
