import { useApi } from "../api/client";
import { Page, Problem, Soft } from "../parts";
import { SignIn } from "../pages/SignIn";
import { Shell } from "./Shell";

export function Root() {
  const session = useApi("GET /api/session");
  if (session.data && !session.error) return <Shell session={session.data} />;
  if (session.error?.status === 401) return <SignIn />;
  return <Page>{session.error ? <Problem error={session.error} /> : <Soft role="status">Loading…</Soft>}</Page>;
}
