import { useApi } from "../../api/client";
import { Loaded, Page, Soft } from "../../parts";
import { useTitle } from "../../parts/title";
import { Sessions } from "./Sessions";
import { Tokens } from "./Tokens";

/** One's own sessions, and the tokens of one's machines. */
export function Own() {
  useTitle("Sessions and tokens");
  const session = useApi("GET /api/session");
  return (
    <Page>
      <h1>Sessions and tokens</h1>
      <Loaded of={session}>
        {(own) => (
          <>
            <Soft>
              You are {own.name}, {own.role}.
            </Soft>
            <Tokens session={own} />
            <Sessions />
          </>
        )}
      </Loaded>
    </Page>
  );
}
