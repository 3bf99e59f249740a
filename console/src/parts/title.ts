import { useEffect } from "react";

/** The page's title in the browser. */
export function useTitle(title: string) {
  useEffect(() => {
    document.title = `${title} · Elm Porch`;
  }, [title]);
}
