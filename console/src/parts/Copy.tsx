import { useState } from "react";

import { Button } from "./Button";

/** Puts a text where it can be pasted from. */
export function Copy({ text, what }: { text: string; what: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <Button
      aria-label={`Copy ${what}`}
      onPress={() =>
        navigator.clipboard.writeText(text).then(
          () => setCopied(true),
          () => setCopied(false),
        )
      }
    >
      {copied ? "Copied" : "Copy"}
    </Button>
  );
}
