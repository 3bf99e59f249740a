import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Navigate, useLocation } from "react-router";

import { Button, Field, Loaded, Problem, RowOf, Sheet, Soft } from "../../parts";
import { api, type ApiError, useChange } from "../client";
import { Content, Form } from "../parts/Sheets";
import { useTitle } from "../parts/title";
import type { InvitedView } from "../schema";

/** Coming to a team by the link of its letter. */
export function Join() {
  useTitle("Join a team");
  const token = useLocation().hash.slice(1);
  const invited = useQuery<InvitedView, ApiError>({
    queryKey: ["invitation", token],
    queryFn: () => api("POST /api/invitation", { body: { token } }),
    retry: false,
  });
  return (
    <Content narrow>
      <h1>Join a team</h1>
      <Loaded of={invited}>{(of) => <Accept of={of} token={token} />}</Loaded>
    </Content>
  );
}

function Accept({ of, token }: { of: InvitedView; token: string }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const join = useChange(() => api("POST /api/invitation/accept", { body: { token, name, password, code } }));
  const asked = join.error?.needs === "code" || code !== "";
  if (join.isSuccess) return <Navigate to="/applications" replace />;
  return (
    <Sheet>
      <p>
        {of.team} invites {of.email}: its members see the same applications, keys and agreements.
      </p>
      <Form onSend={() => join.mutate(undefined)}>
        {!of.known && <Field label="Your name" value={name} onChange={setName} autoComplete="name" />}
        <div>
          <Field
            label={of.known ? "Your password" : "A password for your account"}
            value={password}
            onChange={setPassword}
            type="password"
            autoComplete={of.known ? "current-password" : "new-password"}
          />
          {!of.known && <Soft>At least 12 characters; several words are easy to keep.</Soft>}
        </div>
        {asked && (
          <Field label="Code of your authenticator" value={code} onChange={setCode} autoComplete="one-time-code" />
        )}
        <RowOf>
          <Button
            type="submit"
            $kind="main"
            isDisabled={join.isPending || !password || (!of.known && !name) || (asked && !code)}
          >
            Join {of.team}
          </Button>
        </RowOf>
        {join.error && <Problem error={join.error} />}
      </Form>
    </Sheet>
  );
}
