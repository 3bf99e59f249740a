import { Link, useParams } from "react-router";

import { useApi } from "../../api/client";
import { Loaded, Page, Soft } from "../../parts";
import { useTitle } from "../../parts/title";
import { FacadeShown } from "./FacadeShown";

export function FacadePage() {
  const { facade = "" } = useParams();
  useTitle(facade);
  const view = useApi("GET /api/facades/{facade}", { path: { facade } }, 5000);
  return (
    <Page>
      <Soft>
        <Link to="/facades">Facades</Link> / {facade}
      </Soft>
      <Loaded of={view}>{(data) => <FacadeShown key={data.name} data={data} />}</Loaded>
    </Page>
  );
}
