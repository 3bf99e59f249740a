import { useState } from "react";
import { Link } from "react-router";

import { Button, Loaded, Pager, RowOf, Sheet, Soft, Tag, When } from "../../parts";
import { api, useApi, useChange } from "../client";
import { Content } from "../parts/Sheets";
import { SignedIn } from "../parts/SignedIn";
import { useTitle } from "../parts/title";

export function Messages() {
  useTitle("Messages");
  return (
    <Content>
      <h1>Messages</h1>
      <SignedIn>
        <p>
          They come by e-mail too, and to your own programs by <Link to="/webhooks">webhooks</Link>.
        </p>
        <All />
      </SignedIn>
    </Content>
  );
}

function All() {
  const [before, setBefore] = useState<number[]>([]);
  const messages = useApi("GET /api/messages", { query: { before: before.at(-1) } }, 10_000);
  const read = useChange((until: number) => api("POST /api/messages/read", { body: { until } }));
  return (
    <Loaded of={messages}>
      {(list) =>
        list.length === 0 ? (
          <Soft>{before.length > 0 ? "There are no older ones." : "Nobody has told you anything yet."}</Soft>
        ) : (
          <>
            <RowOf>
              <Button isDisabled={list.every((m) => m.read)} onPress={() => read.mutate(list[0]?.id ?? 0)}>
                All are read
              </Button>
            </RowOf>
            {list.map((m) => (
              <Sheet key={m.id} aria-label={m.subject}>
                <h2>
                  {m.subject} {!m.read && <Tag $tone="accent">new</Tag>}
                </h2>
                <p style={{ whiteSpace: "pre-line" }}>{m.text}</p>
                <Soft>
                  <When at={m.at} />
                </Soft>
              </Sheet>
            ))}
            <Pager
              marks={before}
              onChange={setBefore}
              shown={list.length}
              last={list.at(-1)?.id}
              names={["Newer", "Older"]}
            />
          </>
        )
      }
    </Loaded>
  );
}
