import { Link, useParams } from "react-router";

import { useApi } from "../../api/client";
import { Loaded, Page, Soft } from "../../parts";
import { useTitle } from "../../parts/title";
import { OperationShown } from "./OperationShown";

export function OperationPage() {
  const { facade = "", operation = "" } = useParams();
  useTitle(operation);
  const view = useApi("GET /api/facades/{facade}/operations/{operation}", { path: { facade, operation } });
  return (
    <Page>
      <Soft>
        <Link to="/facades">Facades</Link> / <Link to={`/facades/${facade}`}>{facade}</Link> / {operation}
      </Soft>
      <Loaded of={view}>{(data) => <OperationShown key={`${data.facade}/${data.id}`} data={data} />}</Loaded>
    </Page>
  );
}
