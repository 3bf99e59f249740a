import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import type { Finding, Routes } from "./schema";

/** An error of the API, from its problem document (RFC 9457). */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    title: string,
    readonly detail: string,
    readonly findings: Finding[],
  ) {
    super(title);
  }
}

/** A route of the API: its method and path template. */
export type Route = keyof Routes;

/** What a route is given: values of its path's variables, query parameters, a body. */
export interface Given<R extends Route> {
  path?: Record<string, string | number>;
  query?: Routes[R]["query"];
  body?: Routes[R]["body"];
}

/** What a problem document of the API may hold. */
interface ProblemDocument {
  title?: string;
  detail?: string;
  findings?: Finding[];
}

function addressOf<R extends Route>(route: R, given: Given<R>): { method: string; address: string } {
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
  return new ApiError(status, title, problem.detail ?? "", problem.findings ?? []);
}

/** One call of the console API. */
export async function api<R extends Route>(route: R, given: Given<R> = {}): Promise<Routes[R]["reply"]> {
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

/** What a route of the API says, kept fresh. */
export function useApi<R extends Route>(route: R, given: Given<R> = {}, everyMs?: number) {
  return useQuery<Routes[R]["reply"], ApiError>({
    queryKey: [route, given],
    queryFn: () => api(route, given),
    refetchInterval: everyMs ?? false,
    retry: (count, error) => error.status === 0 && count < 2,
  });
}

/** A change; afterwards everything shown is asked for anew. */
export function useChange<V, T>(change: (input: V) => Promise<T>) {
  const client = useQueryClient();
  return useMutation<T, ApiError, V>({ mutationFn: change, onSuccess: () => client.invalidateQueries() });
}
