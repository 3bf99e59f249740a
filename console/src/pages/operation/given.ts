import { ApiError } from "../../api/client";

/** An answer as it is typed. */
export interface GivenAnswer {
  status: string;
  body: string;
}

/** What is sent of the answers that were typed; a status alone has an empty body. Throws where a body is no JSON. */
export function sentAnswers(typed: Record<string, GivenAnswer>): Record<string, { status: number; body: unknown }> {
  const said = Object.entries(typed).filter(([, a]) => a.body.trim() !== "" || a.status.trim() !== "");
  return Object.fromEntries(said.map(([name, a]) => [name, { status: statusOf(name, a), body: bodyOf(name, a) }]));
}

function statusOf(name: string, answer: GivenAnswer): number {
  const text = answer.status.trim();
  if (text === "") return 200;
  if (!/^[2-5]\d\d$/.test(text))
    throw new ApiError(0, `“${text}” is no status that ${name} can answer with`, "Statuses are 200 to 599.", []);
  return Number(text);
}

function bodyOf(name: string, answer: GivenAnswer): unknown {
  if (answer.body.trim() === "") return null;
  try {
    return JSON.parse(answer.body) as unknown;
  } catch (e) {
    throw new ApiError(0, `The answer of ${name} is no JSON`, e instanceof Error ? e.message : String(e), []);
  }
}
