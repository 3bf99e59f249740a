import { useApi } from "../api/client";
import { Loaded, Page, Sheet, Table, When } from "../parts";
import { useTitle } from "../parts/title";

export function Audit() {
  useTitle("Audit");
  const audit = useApi("GET /api/audit");
  return (
    <Page>
      <h1>Audit</h1>
      <Sheet>
        <Loaded of={audit}>
          {(list) => (
            <Table
              label="Changes"
              head={["When", "Who", "Did"]}
              empty="Nothing was changed yet."
              rows={list.map((l) => ({
                key: String(l.id),
                worth: [l.at],
                cells: [<When key="w" at={l.at} />, l.who, l.words],
              }))}
            />
          )}
        </Loaded>
      </Sheet>
    </Page>
  );
}
