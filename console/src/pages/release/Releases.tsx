import { api, useApi, useChange } from "../../api/client";
import { Button, Loaded, Problem, Sheet, Table, Tag } from "../../parts";
import { time } from "../../parts/format";

export function Releases() {
  const releases = useApi("GET /api/releases");
  const back = useChange((number: number) => api("POST /api/releases/{number}/rollback", { path: { number } }));
  return (
    <Sheet>
      <h2>Releases</h2>
      {back.error && <Problem error={back.error} />}
      <Loaded of={releases}>
        {(list) => (
          <Table
            label="Releases"
            head={["#Number", "Made", "By", "Taken from the draft", "Holds", "Note", ""]}
            empty="Nothing has been released yet."
            rows={list.map((r) => ({
              key: String(r.number),
              cells: [
                r.number,
                time(r.made_at),
                r.made_by,
                r.taken.join(", "),
                r.facades.join(", "),
                r.note,
                r.served ? (
                  <Tag $tone="good">served</Tag>
                ) : (
                  <Button onPress={() => back.mutate(r.number)}>Serve {r.number} again</Button>
                ),
              ],
            }))}
          />
        )}
      </Loaded>
    </Sheet>
  );
}
