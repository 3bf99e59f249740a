import type { ReactNode } from "react";
import { Link } from "react-router";

import { Loaded } from "../../parts";
import { useApi } from "../client";

/** What only somebody sees who is signed in. */
export function SignedIn({ children }: { children: ReactNode }) {
  const session = useApi("GET /api/session");
  return (
    <Loaded of={session}>
      {(of) =>
        of ? (
          children
        ) : (
          <p>
            <Link to="/sign-in">Sign in</Link> first.
          </p>
        )
      }
    </Loaded>
  );
}
