import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

/** One thing that was found wrong, as problem documents list it. */
export interface Found {
  severity: "note" | "warning" | "error";
  file: string;
  line: number;
  column: number;
  pointer?: string;
  message: string;
  help: string;
}

/** An error of an API, from its problem document (RFC 9457). */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    title: string,
    readonly detail: string,
    readonly findings: Found[],
    /** What more must be shown, as in `code`. */
    readonly needs = "",
  ) {
    super(title);
  }
}

/** What each route of an API is given and gives, by its method and path template. */
type RoutesOf<T> = { [R in keyof T]: { query: unknown; body: unknown; reply: unknown } };

/** What a route is given: values of its path's variables, query parameters, a body. */
export interface GivenTo<T extends RoutesOf<T>, R extends keyof T> {
  path?: Record<string, string | number>;
  query?: T[R]["query"];
  body?: T[R]["body"];
}

/** What a problem document may hold. */
interface ProblemDocument {
  title?: string;
  detail?: string;
  findings?: Found[];
  needs?: string;
}

interface Plain {
  path?: Record<string, string | number>;
  query?: unknown;
  body?: unknown;
}

function addressOf(route: string, given: Plain): { method: string; address: string } {
  const [method = "GET", template = ""] = route.split(" ");
  const path = template.replace(/\{(\w+)\}/g, (_, name: string) => encodeURIComponent(given.path?.[name] ?? ""));
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries(given.query ?? {})) {
    if (value !== undefined && value !== null && value !== "") query.set(name, String(value));
  }
  const text = query.toString();
  return { method, address: text ? `${path}?${text}` : path };
}

function problemOf(status: number, text: string): ApiError {
  let problem: ProblemDocument = {};
  try {
    problem = JSON.parse(text);
  } catch {
    // Not from the service itself: its status is all there is to tell.
  }
  const title = problem.title ?? `The service answered ${status}`;
  return new ApiError(status, title, problem.detail ?? "", problem.findings ?? [], problem.needs);
}

async function call(route: string, given: Plain): Promise<unknown> {
  const { method, address } = addressOf(route, given);
  let answer: Response;
  try {
    answer = await fetch(address, {
      method,
      headers: given.body === undefined ? {} : { "Content-Type": "application/json" },
      body: given.body === undefined ? undefined : JSON.stringify(given.body),
    });
  } catch {
    throw new ApiError(0, "The service does not answer", "See whether it still runs, then try again.", []);
  }
  const text = await answer.text();
  if (!answer.ok) throw problemOf(answer.status, text);
  return text ? JSON.parse(text) : null;
}

/** The calls of an API whose routes are known. */
export function clientOf<T extends RoutesOf<T>>() {
  /** One call. */
  async function api<R extends keyof T & string>(route: R, given: GivenTo<T, R> = {}): Promise<T[R]["reply"]> {
    return (await call(route, given)) as T[R]["reply"];
  }
  /** What a route says, kept fresh. */
  function useApi<R extends keyof T & string>(route: R, given: GivenTo<T, R> = {}, everyMs?: number) {
    return useQuery<T[R]["reply"], ApiError>({
      queryKey: [route, given],
      queryFn: () => api(route, given),
      refetchInterval: everyMs ?? false,
      retry: (count, error) => error.status === 0 && count < 2,
    });
  }
  return { api, useApi };
}

/** A change; afterwards everything shown is asked for anew. */
export function useChange<V, T>(change: (input: V) => Promise<T>) {
  const client = useQueryClient();
  return useMutation<T, ApiError, V>({ mutationFn: change, onSuccess: () => client.invalidateQueries() });
}
