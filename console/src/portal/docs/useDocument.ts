import { useQuery } from "@tanstack/react-query";

import { ApiError } from "../client";
import type { Document } from "./openapi";

/** The OpenAPI document of a facade. */
export function useDocument(facade: string) {
  return useQuery<Document, ApiError>({
    queryKey: ["openapi", facade],
    queryFn: async () => {
      const answer = await fetch(`/facades/${encodeURIComponent(facade)}/openapi.json`);
      if (!answer.ok) throw new ApiError(answer.status, "There is no document of this API", "", []);
      return (await answer.json()) as Document;
    },
  });
}
