import { Link } from "react-router";

import { useApi } from "../../api/client";
import { DraftTag, Loaded, Page, RowOf, Sheet, Table, Tag } from "../../parts";
import { useTitle } from "../../parts/title";

export function Facades() {
  useTitle("Facades");
  const facades = useApi("GET /api/facades", {}, 5000);
  return (
    <Page>
      <h1>Facades</h1>
      <Sheet>
        <Loaded of={facades}>
          {(list) => (
            <Table
              label="Facades"
              head={[
                "Facade",
                "Title",
                "Base path",
                "Version",
                "#Operations",
                "Backends",
                "Draft",
                "#Calls in an hour",
              ]}
              empty="There is no facade yet. Publish a backend to make one."
              rows={list.map((f) => ({
                key: f.name,
                worth: [f.name, undefined, f.base, undefined, undefined, undefined, f.status],
                cells: [
                  <Link key="l" to={`/facades/${f.name}`}>
                    {f.name}
                  </Link>,
                  f.title,
                  <code key="b">{f.base}</code>,
                  f.version,
                  f.operations,
                  f.backends.join(", "),
                  <RowOf key="s" $gap="4px">
                    <DraftTag status={f.status} />
                    {f.paused && <Tag $tone="warn">paused</Tag>}
                    {f.errors > 0 && <Tag $tone="bad">{f.errors} errors</Tag>}
                  </RowOf>,
                  f.calls,
                ],
              }))}
            />
          )}
        </Loaded>
      </Sheet>
    </Page>
  );
}
