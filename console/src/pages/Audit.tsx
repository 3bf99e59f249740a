import { useApi } from "../api/client";
import { Loaded, Page, Sheet, Table } from "../parts";
import { time } from "../parts/format";
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
              head={["At", "Who", "Did", "To", "Detail"]}
              empty="Nothing was changed yet."
              rows={list.map((l) => ({
                key: String(l.id),
                cells: [
                  time(l.at),
                  l.who,
                  l.what,
                  l.object,
                  Object.keys(l.detail).length ? <code key="d">{JSON.stringify(l.detail)}</code> : "",
                ],
              }))}
            />
          )}
        </Loaded>
      </Sheet>
    </Page>
  );
}
