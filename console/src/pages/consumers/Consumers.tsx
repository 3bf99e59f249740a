import { useState } from "react";
import { Link, useNavigate } from "react-router";

import { api, useApi, useChange } from "../../api/client";
import type { ConsumerView } from "../../api/schema";
import { Button, Field, Loaded, Page, Problem, RowOf, Sheet, Soft, Table, Tag, When } from "../../parts";
import { useTitle } from "../../parts/title";
import { hasEnded } from "./ended";

/** So many are shown at a time. */
const PAGE = 100;

export function Consumers() {
  useTitle("Consumers and keys");
  const go = useNavigate();
  const [search, setSearch] = useState("");
  const [after, setAfter] = useState<string[]>([]);
  const consumers = useApi("GET /api/consumers", { query: { search, after: after.at(-1) ?? "", most: PAGE } });
  const [name, setName] = useState("");
  const create = useChange(() => api("POST /api/consumers", { body: { name, owner: "", roles: [], labels: [] } }));
  return (
    <Page>
      <h1>Consumers and keys</h1>
      <Sheet>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            create.mutate(undefined, { onSuccess: (made) => go(`/consumers/${encodeURIComponent(made.name)}`) });
          }}
        >
          <RowOf>
            <Field label="Name of a new consumer" value={name} onChange={setName} />
            <Button type="submit" $kind="main" isDisabled={!name.trim()} style={{ alignSelf: "end" }}>
              Register
            </Button>
          </RowOf>
        </form>
        {create.error && <Problem error={create.error} />}
      </Sheet>
      <Sheet>
        <RowOf>
          <Field
            label="Search names, owners and labels"
            value={search}
            onChange={(text) => {
              setSearch(text);
              setAfter([]);
            }}
          />
        </RowOf>
        <Loaded of={consumers}>
          {(list) => (
            <>
              <ConsumerTable list={list} searched={search !== ""} />
              {(after.length > 0 || list.length === PAGE) && (
                <RowOf>
                  <Button isDisabled={after.length === 0} onPress={() => setAfter(after.slice(0, -1))}>
                    Before
                  </Button>
                  <Button isDisabled={list.length < PAGE} onPress={() => setAfter([...after, list.at(-1)?.name ?? ""])}>
                    Next {PAGE}
                  </Button>
                </RowOf>
              )}
            </>
          )}
        </Loaded>
      </Sheet>
    </Page>
  );
}

function ConsumerTable({ list, searched }: { list: ConsumerView[]; searched: boolean }) {
  const [now] = useState(() => Date.now());
  return (
    <Table
      label="Consumers"
      plain
      head={["Consumer", "Owner", "Roles", "Labels", "#Good keys", "Agreements", "Used", "State"]}
      empty={searched ? "Nobody fits that." : "Nobody is registered yet."}
      rows={list.map((c) => {
        const used = Math.max(
          0,
          ...[...c.keys, ...c.passwords, ...c.clients, ...c.signing_keys, ...c.certificates].map(
            (k) => k.last_used_at ?? 0,
          ),
        );
        return {
          key: c.name,
          cells: [
            <Link key="n" to={`/consumers/${encodeURIComponent(c.name)}`}>
              {c.name}
            </Link>,
            c.owner,
            c.roles.join(", "),
            c.labels.join(", "),
            c.keys.filter((k) => !hasEnded(k, now) && !k.paused).length,
            c.agreements.map((a) => a.offer).join(", "),
            used ? <When key="w" at={used} /> : <Soft key="w">never</Soft>,
            c.paused ? (
              <Tag key="s" $tone="warn">
                paused
              </Tag>
            ) : (
              ""
            ),
          ],
        };
      })}
    />
  );
}
