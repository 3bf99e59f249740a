import type { ApiError } from "../api/client";
import { Findings } from "./Findings";
import { Notice } from "./Notice";

export function Problem({ error }: { error: ApiError }) {
  return (
    <Notice $tone="bad" role="alert">
      <strong>{error.message}</strong> {error.detail}
      <Findings findings={error.findings} />
    </Notice>
  );
}
