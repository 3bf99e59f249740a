import { useState } from "react";

import { api, useApi, useChange } from "../../api/client";
import type { WebhookView } from "../../api/schema";
import { Events, HookSheet, Loaded, NewHook, Problem, Sheet, Soft } from "../../parts";

/** Where publishers' messages are sent as events. */
export function Webhooks() {
  const hooks = useApi("GET /api/webhooks", {}, 10_000);
  const add = useChange((body: { url: string; kinds: string[] }) => api("POST /api/webhooks", { body }));
  return (
    <>
      <Sheet aria-label="Webhooks">
        <h2>Webhooks</h2>
        <p>
          What publishers are told is sent as CloudEvents by POST, signed by RFC 9421; the portal has the key at{" "}
          <code>/event-keys.json</code>.
        </p>
        <NewHook under={add.isPending} onAdd={(url, kinds, done) => add.mutate({ url, kinds }, { onSuccess: done })} />
        {add.error && <Problem error={add.error} />}
      </Sheet>
      <Loaded of={hooks}>
        {(list) =>
          list.length === 0 ? (
            <Soft>There are none yet.</Soft>
          ) : (
            <>
              {list.map((w) => (
                <One key={w.id} hook={w} />
              ))}
            </>
          )
        }
      </Loaded>
    </>
  );
}

function One({ hook }: { hook: WebhookView }) {
  const path = { webhook: hook.id };
  const [before, setBefore] = useState<number[]>([]);
  const events = useApi("GET /api/webhooks/{webhook}/events", { path, query: { before: before.at(-1) } }, 10_000);
  const pause = useChange((paused: boolean) => api("PUT /api/webhooks/{webhook}/pause", { path, body: { paused } }));
  const remove = useChange(() => api("DELETE /api/webhooks/{webhook}", { path }));
  const again = useChange((event: number) =>
    api("POST /api/webhooks/{webhook}/events/{event}/again", { path: { ...path, event } }),
  );
  const error = pause.error ?? remove.error ?? again.error;
  return (
    <HookSheet hook={hook} may onPause={(paused) => pause.mutate(paused)} onRemove={() => remove.mutate(undefined)}>
      <Loaded of={events}>
        {(list) => (
          <Events list={list} may onAgain={(event) => again.mutate(event)} before={before} onPage={setBefore} />
        )}
      </Loaded>
      {error && <Problem error={error} />}
    </HookSheet>
  );
}
