import type { ReactNode } from "react";

import type { ApiError } from "../api/client";
import { Soft } from "./Layout";
import { Problem } from "./Problem";

/** Loading, error or content of something asked for. */
export function Loaded<T>(props: {
  of: { data: T | undefined; error: ApiError | null; isPending: boolean };
  children: (data: T) => ReactNode;
}) {
  if (props.of.data !== undefined) return <>{props.children(props.of.data)}</>;
  if (props.of.error) return <Problem error={props.of.error} />;
  return <Soft role="status">Loading…</Soft>;
}
