import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import type { ReactNode } from "react";
import { RouterProvider, createMemoryRouter } from "react-router";
import { vi } from "vitest";

import type { Given, Route } from "../api/client";
import type { Routes } from "../api/schema";

/** What a route answers: a value, what is made of the request's body, or a problem with its status. */
type Answers = {
  [R in Route]?: Routes[R]["reply"] | ((body: Routes[R]["body"]) => Routes[R]["reply"]) | Refusal;
};

export class Refusal {
  constructor(
    readonly status: number,
    readonly problem: { title: string; detail?: string; findings?: unknown[] },
  ) {}
}

interface Asked {
  route: Route;
  address: string;
  body: unknown;
}

/** The service as the console sees it: answers by route, and what was asked of them, in order. */
export class Service {
  readonly asked: Asked[] = [];

  constructor(public answers: Answers) {
    vi.stubGlobal("fetch", (address: string, init: { method: string; body?: string }) =>
      Promise.resolve(this.answer(address, init.method, init.body)),
    );
  }

  /** The bodies that a route was given. */
  bodies<R extends Route>(route: R): Given<R>["body"][] {
    return this.asked.filter((a) => a.route === route).map((a) => a.body as Given<R>["body"]);
  }

  private answer(address: string, method: string, text?: string): Response {
    const path = address.split("?")[0] ?? "";
    const fits = (route: string) => {
      const template = route.replace(/\{\w+\}/g, "[^/]+");
      return new RegExp(`^${template}$`).test(`${method} ${path}`);
    };
    const route = (Object.keys(this.answers) as Route[]).find(fits);
    if (!route) return new Response(JSON.stringify({ title: `nothing answers ${method} ${path}` }), { status: 404 });
    const body: unknown = text === undefined ? undefined : JSON.parse(text);
    this.asked.push({ route, address, body });
    const answer: unknown = this.answers[route];
    if (answer instanceof Refusal) return new Response(JSON.stringify(answer.problem), { status: answer.status });
    let made: unknown = answer;
    try {
      if (typeof answer === "function") made = answer(body);
    } catch (refused) {
      if (!(refused instanceof Refusal)) throw refused;
      return new Response(JSON.stringify(refused.problem), { status: refused.status });
    }
    return new Response(JSON.stringify(made), { status: 200 });
  }
}

/** Shows a page at an address, with what surrounds it in the console. */
export function show(page: ReactNode, template = "/", address = template) {
  const router = createMemoryRouter(
    [
      { path: template, element: page },
      { path: "*", element: <p>elsewhere</p> },
    ],
    { initialEntries: [address] },
  );
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <QueryClientProvider client={client}>
      <RouterProvider router={router} />
    </QueryClientProvider>,
  );
  return router;
}
