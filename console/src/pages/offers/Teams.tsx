import { useState } from "react";

import { api, useApi, useChange } from "../../api/client";
import type { TeamView } from "../../api/schema";
import { Button, Field, Loaded, Pager, Problem, RowOf, Sheet, Soft, Table } from "../../parts";
import { listed } from "../consumers/listed";

/** Those who have come by the portal, and what they may be. */
export function Teams() {
  const [search, setSearch] = useState("");
  const [behind, setBehind] = useState<number[]>([]);
  const teams = useApi("GET /api/teams", { query: { search, behind: behind.at(-1) } });
  return (
    <Sheet aria-label="Teams">
      <h2>Teams of the portal</h2>
      <RowOf>
        <Field
          label="Search names of teams"
          value={search}
          onChange={(text) => {
            setSearch(text);
            setBehind([]);
          }}
        />
      </RowOf>
      <Loaded of={teams}>
        {(list) => (
          <>
            <Table
              label="All teams"
              plain
              head={["Team", "Members", "Consumers", "Roles"]}
              empty={search ? "Nothing fits that." : "Nobody has signed up yet."}
              rows={list.map((t) => ({
                key: String(t.id),
                cells: [t.name, t.members.join(", "), t.consumers.join(", "), <Roles key={t.roles.join()} of={t} />],
              }))}
            />
            <Pager
              marks={behind}
              onChange={setBehind}
              shown={list.length}
              last={list.at(-1)?.id}
              names={["Before", "Behind"]}
            />
          </>
        )}
      </Loaded>
      <Soft>Offers and groups of the portal may be for teams with a role alone.</Soft>
    </Sheet>
  );
}

function Roles({ of }: { of: TeamView }) {
  const [roles, setRoles] = useState(of.roles.join(", "));
  const change = useChange(() =>
    api("PUT /api/teams/{team}/roles", { path: { team: of.id }, body: { roles: listed(roles) } }),
  );
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        change.mutate(undefined);
      }}
    >
      <RowOf $gap="var(--space-1)">
        <Field label={`Roles of ${of.name}, with commas`} value={roles} onChange={setRoles} />
        <Button type="submit" isDisabled={roles === of.roles.join(", ")} style={{ alignSelf: "end" }}>
          Save
        </Button>
      </RowOf>
      {change.error && <Problem error={change.error} />}
    </form>
  );
}
