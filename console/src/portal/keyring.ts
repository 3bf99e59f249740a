import { useSyncExternalStore } from "react";

/** The key that the pages call with: in this page's memory alone, and gone when it is closed or loaded again. */
let held = "";
const watching = new Set<() => void>();

export function holdKey(key: string) {
  // Pasted white space is not part of a key.
  held = key.trim();
  watching.forEach((told) => told());
}

export function useKey(): string {
  return useSyncExternalStore(
    (told) => {
      watching.add(told);
      return () => watching.delete(told);
    },
    () => held,
  );
}
