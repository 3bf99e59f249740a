import { Link, useSearchParams } from "react-router";

import { useApi } from "../../api/client";
import { Field, Loaded, Page, RowOf, Sheet, Soft, StatusTag, Table, When, Whole } from "../../parts";
import { took } from "../../parts/format";
import { useTitle } from "../../parts/title";

export function Traces() {
  useTitle("Traces");
  const [search, setSearch] = useSearchParams();
  const set = (name: string) => (value: string) => {
    const next = new URLSearchParams(search);
    if (value) next.set(name, value);
    else next.delete(name);
    setSearch(next, { replace: true });
  };
  const get = (name: string) => search.get(name) ?? "";
  // A status that is being typed is asked for once it is whole.
  const status = /^([1-5]\d\d|refused|failed)$/.test(get("status")) ? get("status") : "";
  const query = {
    most: 200,
    facade: get("facade"),
    operation: get("operation"),
    consumer: get("consumer"),
    status,
  };
  const traces = useApi("GET /api/traces", { query }, 3000);
  return (
    <Page>
      <h1>Traces</h1>
      <Sheet>
        <RowOf>
          <Field label="Facade" value={get("facade")} onChange={set("facade")} />
          <Field label="Operation" value={get("operation")} onChange={set("operation")} />
          <Field label="Consumer" value={get("consumer")} onChange={set("consumer")} />
          <Field label="Status (refused, failed, 429 …)" value={get("status")} onChange={set("status")} />
        </RowOf>
        <Loaded of={traces}>
          {(list) => (
            <Table
              label="Exchanges"
              head={["Exchange", "At", "Status", "#Took", "Consumer", "Request", "Why refused"]}
              empty="No exchange fits."
              rows={list.map((t, i) => ({
                key: t.id + i,
                worth: [t.id, t.at, t.status, t.us, undefined, `${t.method} ${t.target}`],
                cells: [
                  <Link key="l" to={`/traces/${t.id}`}>
                    <Whole>
                      <code>{t.id.slice(0, 12)}</code>
                    </Whole>
                  </Link>,
                  <When key="t" at={t.at} />,
                  <StatusTag key="s" status={t.status} />,
                  took(t.us),
                  t.consumer,
                  <code key="r" style={{ display: "inline-block", minWidth: 230 }}>
                    {t.method} {t.target}
                  </code>,
                  t.why || (t.status >= 400 ? <Soft key="w">the backend’s own answer</Soft> : ""),
                ],
              }))}
            />
          )}
        </Loaded>
      </Sheet>
    </Page>
  );
}
