import { useState } from "react";

import { Events, HookSheet, Loaded, NewHook, Problem, Sheet, Soft } from "../../parts";
import { api, useApi, useChange } from "../client";
import { Content } from "../parts/Sheets";
import { SignedIn } from "../parts/SignedIn";
import { useTitle } from "../parts/title";
import type { WebhookView } from "../schema";

export function Webhooks() {
  useTitle("Webhooks");
  return (
    <Content>
      <h1>Webhooks</h1>
      <SignedIn>
        <p>
          What your team is told is sent to your own programs too: as CloudEvents in JSON by POST, signed by RFC 9421
          with the key of <a href="/event-keys.json">this set</a>. Whoever is there agrees first, by answering OPTIONS
          with the field WebHook-Allowed-Origin; takes an event by answering 2xx; and is asked again twelve times with
          growing gaps otherwise.
        </p>
        <All />
      </SignedIn>
    </Content>
  );
}

function All() {
  const session = useApi("GET /api/session");
  const hooks = useApi("GET /api/webhooks", {}, 10_000);
  const add = useChange((body: { url: string; kinds: string[] }) => api("POST /api/webhooks", { body }));
  const may = session.data?.manages ?? false;
  return (
    <>
      {may && (
        <Sheet aria-label="Add a webhook">
          <h2>Add a webhook</h2>
          <NewHook
            under={add.isPending}
            onAdd={(url, kinds, done) => add.mutate({ url, kinds }, { onSuccess: done })}
          />
          {add.error && <Problem error={add.error} />}
        </Sheet>
      )}
      <Loaded of={hooks}>
        {(list) =>
          list.length === 0 ? (
            <Soft>Your team has none yet.</Soft>
          ) : (
            <>
              {list.map((w) => (
                <One key={w.id} hook={w} may={may} />
              ))}
            </>
          )
        }
      </Loaded>
    </>
  );
}

function One({ hook, may }: { hook: WebhookView; may: boolean }) {
  const path = { webhook: hook.id };
  const [before, setBefore] = useState<number[]>([]);
  const events = useApi("GET /api/webhooks/{webhook}/events", { path, query: { before: before.at(-1) } }, 10_000);
  const pause = useChange((paused: boolean) => api("PUT /api/webhooks/{webhook}/pause", { path, body: { paused } }));
  const remove = useChange(() => api("DELETE /api/webhooks/{webhook}", { path }));
  const ask = useChange(() => api("POST /api/webhooks/{webhook}/ask", { path }));
  const again = useChange((event: number) =>
    api("POST /api/webhooks/{webhook}/events/{event}/again", { path: { ...path, event } }),
  );
  const error = pause.error ?? remove.error ?? ask.error ?? again.error;
  return (
    <HookSheet
      hook={hook}
      may={may}
      onPause={(paused) => pause.mutate(paused)}
      onRemove={() => remove.mutate(undefined)}
      onAsk={() => ask.mutate(undefined)}
    >
      <Loaded of={events}>
        {(list) => (
          <Events list={list} may={may} onAgain={(event) => again.mutate(event)} before={before} onPage={setBefore} />
        )}
      </Loaded>
      {error && <Problem error={error} />}
    </HookSheet>
  );
}
