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
}

/** A body of at most so many bytes is shown. */
const MOST = 1 << 20;

const isText = (type: string): boolean => /json|xml|text|javascript|csv|yaml|form/.test(type);

/** Makes a call, to the gateway itself: nothing stands between. */
export async function send(call: Call): Promise<Reply> {
  const begun = performance.now();
  try {
    const answer = await fetch(call.url, {
      method: call.method,
      headers: call.headers,
      body: call.body,
      credentials: "omit",
    });
    const blob = await answer.blob();
    const type = answer.headers.get("content-type") ?? "";
    const reply: Reply = {
      status: answer.status,
      headers: [...answer.headers],
      type,
      ms: Math.round(performance.now() - begun),
    };
    if (blob.size === 0) return reply;
    if (isText(type)) return { ...reply, text: await blob.slice(0, MOST).text() };
    return { ...reply, bytes: URL.createObjectURL(blob) };
  } catch (e) {
    const why = e instanceof Error ? e.message : String(e);
    return { status: 0, headers: [], type: "", ms: Math.round(performance.now() - begun), why };
  }
}
