import { useState } from "react";

import { api, useApi, useChange } from "../../api/client";
import {
  Button,
  Field,
  Area,
  Loaded,
  Notice,
  Page,
  Pager,
  Pick,
  Problem,
  RowOf,
  Sheet,
  Soft,
  Table,
  Tag,
  When,
} from "../../parts";
import { useTitle } from "../../parts/title";
import { Webhooks } from "./Webhooks";

/** What publishers were told, what they tell, and where it is sent. */
export function Messages() {
  useTitle("Messages");
  return (
    <Page>
      <h1>Messages</h1>
      <Told />
      <Tell />
      <Webhooks />
    </Page>
  );
}

function Told() {
  const [before, setBefore] = useState<number[]>([]);
  const messages = useApi("GET /api/messages", { query: { before: before.at(-1) } }, 10_000);
  const read = useChange((until: number) => api("POST /api/messages/read", { body: { until } }));
  return (
    <Sheet aria-label="What publishers were told">
      <h2>What publishers were told</h2>
      <Loaded of={messages}>
        {(list) => (
          <>
            <Table
              label="Messages"
              head={["When", "What", "Text", ""]}
              empty={before.length > 0 ? "There are no older ones." : "Nothing yet."}
              rows={list.map((m) => ({
                key: String(m.id),
                worth: [m.at, m.subject, m.text, ""],
                cells: [
                  <When key="w" at={m.at} />,
                  m.subject,
                  m.text,
                  m.read ? (
                    ""
                  ) : (
                    <Tag key="n" $tone="accent">
                      new
                    </Tag>
                  ),
                ],
              }))}
            />
            <RowOf>
              <Button isDisabled={list.every((m) => m.read)} onPress={() => read.mutate(list[0]?.id ?? 0)}>
                All are read
              </Button>
            </RowOf>
            <Pager
              marks={before}
              onChange={setBefore}
              shown={list.length}
              last={list.at(-1)?.id}
              names={["Newer", "Older"]}
            />
          </>
        )}
      </Loaded>
      {read.error && <Problem error={read.error} />}
    </Sheet>
  );
}

/** Tells those who use a facade that something will change. */
function Tell() {
  const facades = useApi("GET /api/facades");
  const [facade, setFacade] = useState("");
  const [subject, setSubject] = useState("");
  const [text, setText] = useState("");
  const names = (facades.data ?? []).filter((f) => f.status !== "new").map((f) => f.name);
  const chosen = facade || (names[0] ?? "");
  const tell = useChange(() => api("POST /api/announcements", { body: { facade: chosen, subject, text } }));
  const teams = tell.data?.teams ?? 0;
  return (
    <Sheet aria-label="Tell those who use a facade">
      <h2>Tell those who use a facade</h2>
      <form
        style={{ display: "grid", gap: "var(--space-3)" }}
        onSubmit={(e) => {
          e.preventDefault();
          tell.mutate(undefined, {
            onSuccess: () => {
              setSubject("");
              setText("");
            },
          });
        }}
      >
        <RowOf>
          <Pick label="Facade" value={chosen} onChange={setFacade} choices={names} />
          <Field label="What it is about, in a line" value={subject} onChange={setSubject} />
        </RowOf>
        <label style={{ display: "grid", gap: 2 }}>
          <Soft>The rest</Soft>
          <Area rows={3} value={text} onChange={(e) => setText(e.target.value)} />
        </label>
        <RowOf>
          <Button type="submit" $kind="main" isDisabled={tell.isPending || !chosen || !subject || !text}>
            Tell them
          </Button>
          <Soft>In the portal, by e-mail, and to their webhooks.</Soft>
        </RowOf>
        {tell.isSuccess && (
          <Notice $tone="accent" role="status">
            {teams === 0
              ? "No team has an agreement that opens it: nobody was told."
              : teams === 1
                ? "1 team was told."
                : `${teams} teams were told.`}
          </Notice>
        )}
        {tell.error && <Problem error={tell.error} />}
      </form>
    </Sheet>
  );
}
