import { clientOf, type GivenTo } from "./call";
import type { Routes } from "./schema";

export { ApiError, useChange } from "./call";

/** A route of the console API: its method and path template. */
export type Route = keyof Routes;

/** What a route is given: values of its path's variables, query parameters, a body. */
export type Given<R extends Route> = GivenTo<Routes, R>;

export const { api, useApi } = clientOf<Routes>();
