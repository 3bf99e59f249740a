import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import type { Finding } from "./types";

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

/** One call of the publisher's API. */
export async function api<T>(method: string, path: string, body?: unknown): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch(path, {
      method,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new ApiError(0, "The service does not answer", "See whether it still runs, then try again.", []);
  }
  const text = await answer.text();
  let value: unknown = null;
  try {
    value = text ? JSON.parse(text) : null;
  } catch {
    value = null;
  }
  if (!answer.ok) {
    const problem = (value ?? {}) as { title?: string; detail?: string; findings?: Finding[] };
    const title = problem.title ?? `The service answered ${answer.status}`;
    throw new ApiError(answer.status, title, problem.detail ?? "", problem.findings ?? []);
  }
  return value as T;
}

/** What a path of the API says, kept fresh. */
export function useApi<T>(path: string, everyMs?: number) {
  return useQuery<T, ApiError>({
    queryKey: [path],
    queryFn: () => api<T>("GET", path),
    refetchInterval: everyMs ?? false,
    retry: (count, error) => error.status === 0 && count < 2,
  });
}

/** A change; afterwards everything shown is asked for anew. */
export function useChange<V, T>(change: (input: V) => Promise<T>) {
  const client = useQueryClient();
  return useMutation<T, ApiError, V>({ mutationFn: change, onSuccess: () => client.invalidateQueries() });
}
