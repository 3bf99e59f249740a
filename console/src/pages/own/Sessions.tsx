import { api, useApi, useChange } from "../../api/client";
import { Ask, Loaded, Problem, RowOf, Sheet, Soft, Table, Tag, When } from "../../parts";

/** Where one is signed in. */
export function Sessions() {
  const sessions = useApi("GET /api/sessions");
  const end = useChange((id: number) => api("DELETE /api/sessions/{id}", { path: { id } }));
  const all = useChange(() => api("DELETE /api/sessions"));
  const error = end.error ?? all.error;
  return (
    <Sheet aria-label="Sessions">
      <h2>Where you are signed in</h2>
      {error && <Problem error={error} />}
      <Loaded of={sessions}>
        {(list) => (
          <Table
            label="Sessions"
            head={["What for", "Since", "Ends", ""]}
            empty="Nowhere."
            rows={list.map((s) => ({
              key: String(s.id),
              worth: [s.label, s.created_at, s.ends_at],
              cells: [
                <span key="l">
                  {s.label || <Soft>not said</Soft>} {s.own && <Tag>this one</Tag>}
                </span>,
                <When key="c" at={s.created_at} />,
                <When key="e" at={s.ends_at} />,
                <Ask
                  key="a"
                  label="End"
                  name={`End session ${s.id}`}
                  title="End this session?"
                  onYes={() => end.mutate(s.id)}
                >
                  {s.own ? "You sign in again here." : "Whoever uses it signs in again."}
                </Ask>,
              ],
            }))}
          />
        )}
      </Loaded>
      <RowOf>
        <Ask
          label="End all"
          name="End all sessions"
          title="End all of your sessions?"
          onYes={() => all.mutate(undefined)}
        >
          This one too: you sign in again. Tokens of machines stay.
        </Ask>
      </RowOf>
    </Sheet>
  );
}
