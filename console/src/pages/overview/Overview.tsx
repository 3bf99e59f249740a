import { useApi } from "../../api/client";
import { Loaded, Page } from "../../parts";
import { useTitle } from "../../parts/title";
import { Standing } from "./Standing";

export function Overview() {
  useTitle("Where things stand");
  const overview = useApi("GET /api/overview", {}, 5000);
  return (
    <Page>
      <h1>Where things stand</h1>
      <Loaded of={overview}>{(data) => <Standing data={data} />}</Loaded>
    </Page>
  );
}
