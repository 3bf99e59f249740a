import { Link } from "react-router";

import { api, useApi, useChange } from "../../api/client";
import { Button, Loaded, Page, Problem, Sheet, Soft, Table } from "../../parts";
import { useTitle } from "../../parts/title";
import { Probed } from "./Probed";

/** The backends of the draft, each to be asked whether it is there. */
export function Backends() {
  useTitle("Backends");
  const backends = useApi("GET /api/backends");
  const probe = useChange((backend: string) => api("POST /api/backends/{backend}/probe", { path: { backend } }));
  return (
    <Page>
      <h1>Backends</h1>
      {probe.data && !probe.isPending && <Probed found={probe.data} />}
      {probe.error && <Problem error={probe.error} />}
      <Sheet>
        <Loaded of={backends}>
          {(list) => (
            <Table
              label="Backends"
              head={["Backend", "Kind", "Called at", "Is shown", "Facades", ""]}
              empty="There is no backend yet. Publish one."
              rows={list.map((b) => ({
                key: b.name,
                worth: [b.name, b.kind, b.addresses.join(" ")],
                cells: [
                  <span key="n" title={b.title}>
                    {b.name}
                    {b.resting > 0 && (
                      <Soft style={{ display: "block" }}>left alone for {b.resting} s: too many calls failed</Soft>
                    )}
                  </span>,
                  b.kind === "grpc" ? "gRPC" : b.kind.toUpperCase(),
                  b.addresses
                    .map((a) => (
                      <code key={a} style={{ display: "block" }}>
                        {a}
                      </code>
                    ))
                    .concat(
                      b.out.map((o) => (
                        <Soft key={`out ${o.address}`} style={{ display: "block" }}>
                          {o.address} is not well: {o.told}
                        </Soft>
                      )),
                    ),
                  b.credentials.length > 0 ? b.credentials.join(", ") : <Soft key="c">nothing</Soft>,
                  b.facades.map((f) => (
                    <Link key={f} to={`/facades/${f}`} style={{ display: "block", minHeight: 24 }}>
                      {f}
                    </Link>
                  )),
                  <Button
                    key="p"
                    aria-label={`Is it there? ${b.name}`}
                    isDisabled={probe.isPending}
                    onPress={() => probe.mutate(b.name)}
                  >
                    Is it there?
                  </Button>,
                ],
              }))}
            />
          )}
        </Loaded>
      </Sheet>
    </Page>
  );
}
