import type { ReactNode } from "react";

import type { ApiError } from "../api/client";
import { Soft } from "./Layout";
import { Problem } from "./Problem";

/** Loading, error or content of something asked for. */
export function Loaded<T>(props: {
  of: { data: T | undefined; error: ApiError | null; isPending: boolean };
  children: (data: T) => ReactNode;
}) {
  const { data, error } = props.of;
  if (data !== undefined) {
    return (
      <>
        {/* What is shown is what was known before it went wrong. */}
        {error && <Problem error={error} />}
        {props.children(data)}
      </>
    );
  }
  if (error) return <Problem error={error} />;
  return <Soft role="status">Loading…</Soft>;
}
