import type { Call } from "./request";

/** What came back. */
export interface Reply {
  /** 0: nothing did. */
  status: number;
  headers: [string, string][];
  /** The body as text, where it is some. */
  text?: string;
  /** An address of its bytes in this page, where it is a picture or something to be kept. */
  bytes?: string;
  type: string;
  ms: number;
  why?: string;
  /** Whether more of it is to come. */
  more?: boolean;
}

/** A body of at most so many bytes is shown. */
const MOST = 1 << 20;

const isText = (type: string): boolean => /json|xml|text|javascript|csv|yaml|form/.test(type);

/** Whether a body is of parts that are of use before the last one comes. */
const isStream = (type: string): boolean => /event-stream|ndjson|jsonl|json-seq|stream\+json/.test(type);

/** Makes a call, to the gateway itself: nothing stands between. What streams is shown as it comes. */
export async function send(
  call: Call & { chosen?: FormData | File },
  show: (reply: Reply) => void,
  stop: AbortSignal,
): Promise<Reply> {
  const begun = performance.now();
  const ms = () => Math.round(performance.now() - begun);
  let reply: Reply | undefined;
  try {
    const answer = await fetch(call.url, {
      method: call.method,
      headers: call.headers,
      body: call.chosen ?? call.body,
      credentials: "omit",
      signal: stop,
    });
    const type = answer.headers.get("content-type") ?? "";
    reply = { status: answer.status, headers: [...answer.headers], type, ms: ms() };
    if (isStream(type) && answer.body) {
      const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
      for (let text = ""; text.length < MOST;) {
        const { value, done } = await reader.read();
        if (done) return { ...reply, text, ms: ms() };
        text += value;
        reply = { ...reply, text, ms: ms() };
        show({ ...reply, more: true });
      }
      await reader.cancel();
      return { ...reply, why: "More came than is shown here." };
    }
    const blob = await answer.blob();
    reply = { ...reply, ms: ms() };
    if (blob.size === 0) return reply;
    if (isText(type)) return { ...reply, text: await blob.slice(0, MOST).text() };
    return { ...reply, bytes: URL.createObjectURL(blob) };
  } catch (e) {
    const why = stop.aborted ? "You stopped it." : e instanceof Error ? e.message : String(e);
    if (reply) return { ...reply, more: false, why };
    return { status: 0, headers: [], type: "", ms: ms(), why };
  }
}
