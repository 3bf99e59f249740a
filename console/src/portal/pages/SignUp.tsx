import { useState } from "react";

import { Button, Field, Notice, Problem, RowOf, Sheet, Soft } from "../../parts";
import { api, useChange } from "../client";
import { Content } from "../parts/Sheets";
import { useTitle } from "../parts/title";

export function SignUp() {
  useTitle("Sign up");
  const [of, setOf] = useState({ email: "", name: "", password: "", team: "" });
  const make = useChange(() => api("POST /api/sign-up", { body: of }));
  const set = (name: keyof typeof of) => (value: string) => setOf({ ...of, [name]: value });
  if (make.isSuccess) {
    return (
      <Content narrow>
        <h1>Look into your letters</h1>
        <Notice $tone="accent" role="status">
          We wrote to {of.email}. The letter has a link with which you confirm the address; it is good for a day.
        </Notice>
      </Content>
    );
  }
  return (
    <Content narrow>
      <h1>Sign up</h1>
      <Sheet>
        <form
          style={{ display: "grid", gap: "var(--space-3)" }}
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate(undefined);
          }}
        >
          <Field label="E-mail address" value={of.email} onChange={set("email")} type="email" autoComplete="email" />
          <Field label="Your name" value={of.name} onChange={set("name")} autoComplete="name" />
          <Field
            label="Your team, if it has another name"
            value={of.team}
            onChange={set("team")}
            autoComplete="organization"
          />
          <div>
            <Field
              label="Password"
              value={of.password}
              onChange={set("password")}
              type="password"
              autoComplete="new-password"
            />
            <Soft>At least 12 characters; several words are easy to keep.</Soft>
          </div>
          <RowOf>
            <Button type="submit" $kind="main" isDisabled={make.isPending || !of.email || !of.name || !of.password}>
              Sign up
            </Button>
          </RowOf>
          {make.error && <Problem error={make.error} />}
        </form>
      </Sheet>
    </Content>
  );
}
