import { useEffect } from "react";

import { useApi } from "../client";

/** The page's title in the browser, with that of the portal. */
export function useTitle(title: string) {
  const portal = useApi("GET /api/portal");
  const own = portal.data?.title ?? "Developer portal";
  useEffect(() => {
    document.title = title ? `${title} · ${own}` : own;
  }, [title, own]);
}
