import { useApi } from "../api/client";
import { Loaded, Page, Sheet, Soft, Table } from "../parts";
import { took } from "../parts/format";
import { useTitle } from "../parts/title";

export function Usage() {
  useTitle("Usage");
  const usage = useApi("GET /api/usage", { query: { minutes: 60 } }, 5000);
  return (
    <Page>
      <h1>Usage of the last hour</h1>
      <Copies />
      <Sheet>
        <Loaded of={usage}>
          {(list) => (
            <Table
              label="Usage"
              head={[
                "Operation",
                "Consumer",
                "#Calls",
                "#Refused",
                "#Failed",
                "#Off contract",
                "#Half within",
                "#99 % within",
                "#Bytes in",
                "#Bytes out",
              ]}
              empty="Nobody has called in the last hour."
              rows={list.map((u, i) => ({
                key: String(i),
                worth: [
                  `${u.facade} / ${u.operation}`,
                  u.consumer,
                  undefined,
                  undefined,
                  undefined,
                  undefined,
                  u.p50_us,
                  u.p99_us,
                ],
                cells: [
                  u.operation ? `${u.facade} / ${u.operation}` : <Soft key="n">nothing found</Soft>,
                  u.consumer || <Soft key="c">without a key</Soft>,
                  u.calls,
                  u.refused,
                  u.failed,
                  u.misfits,
                  took(u.p50_us),
                  took(u.p99_us),
                  u.bytes_in,
                  u.bytes_out,
                ],
              }))}
            />
          )}
        </Loaded>
      </Sheet>
    </Page>
  );
}

/** What copies of calls to other backends gave; nothing where there are none. */
function Copies() {
  const copies = useApi("GET /api/copies", { query: { minutes: 60 } }, 5000);
  if (!copies.data?.length) {
    return null;
  }
  return (
    <>
      <h2>Copies to other backends</h2>
      <Sheet>
        <Table
          label="Copies"
          head={[
            "Operation",
            "Copied to",
            "#Same",
            "#Different",
            "#Failed",
            "#Left out",
            "#Took",
            "#Copies took",
            "Last difference or failure",
          ]}
          empty="Nothing was copied in the last hour."
          rows={copies.data.map((c) => ({
            key: `${c.facade}/${c.operation}/${c.backend}`,
            cells: [
              `${c.facade} / ${c.operation}`,
              c.backend,
              c.same,
              c.different,
              c.failed,
              c.left_out,
              took(c.mean_us),
              took(c.copies_mean_us),
              c.told || <Soft key="t">none</Soft>,
            ],
          }))}
        />
      </Sheet>
    </>
  );
}
