import { clientOf } from "../api/call";
import type { Routes } from "./schema";

export { ApiError, useChange } from "../api/call";

export const { api, useApi } = clientOf<Routes>();
