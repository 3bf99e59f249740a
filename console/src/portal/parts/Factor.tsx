import { useState } from "react";

import { Button, Code, Copy, Field, Notice, Problem, RowOf, Sheet, Soft } from "../../parts";
import { api, useChange } from "../client";
import type { Account } from "../schema";
import { Form } from "./Sheets";

/** A second factor: codes of an authenticator by time. */
export function Factor({ account }: { account: Account }) {
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const begin = useChange(() => api("POST /api/account/factor", { body: { password } }));
  const set = useChange((secret: string) => api("PUT /api/account/factor", { body: { password, secret, code } }));
  const remove = useChange(() => api("DELETE /api/account/factor", { body: { password, code } }));
  const done = () => {
    setPassword("");
    setCode("");
    begin.reset();
  };
  const error = begin.error ?? set.error ?? remove.error;
  const drawn = account.factor ? undefined : begin.data;
  return (
    <Sheet aria-label="Second factor">
      <h2>Second factor</h2>
      <p>
        {account.factor
          ? "Whoever signs in shows a code of your authenticator too."
          : "A code of an authenticator on your phone, which is asked for besides the password."}
      </p>
      {set.data && account.factor && (
        <Notice $tone="accent" role="status">
          <strong>Keep these where nobody else sees them, they are shown this once.</strong> Each is good once, for when
          the authenticator is lost.
          <RowOf>
            <Code aria-label="Codes that are good once">{set.data.codes.join("\n")}</Code>
            <Copy text={set.data.codes.join("\n")} what="the codes" />
          </RowOf>
        </Notice>
      )}
      <Form
        onSend={() => {
          if (account.factor) remove.mutate(undefined, { onSuccess: done });
          else if (drawn) set.mutate(drawn.secret, { onSuccess: done });
          else begin.mutate(undefined);
        }}
      >
        {account.password && !drawn && (
          <Field
            label="Your password, to change the second factor"
            value={password}
            onChange={setPassword}
            type="password"
            autoComplete="current-password"
          />
        )}
        {drawn && (
          <div>
            <img
              src={`data:image/svg+xml,${encodeURIComponent(drawn.picture)}`}
              alt="The secret, to be read by an authenticator"
              width={200}
              height={200}
            />
            <p>
              Or type it in: <code style={{ overflowWrap: "anywhere" }}>{drawn.secret}</code>
            </p>
          </div>
        )}
        {(drawn || account.factor) && (
          <Field label="A code of it" value={code} onChange={setCode} autoComplete="one-time-code" />
        )}
        <RowOf>
          <Button
            type="submit"
            isDisabled={(account.password && !password) || ((drawn !== undefined || account.factor) && !code)}
          >
            {account.factor ? "Ask for it no more" : drawn ? "Ask for it from now on" : "Set one up"}
          </Button>
        </RowOf>
        {!account.factor && !drawn && <Soft>Any authenticator by time will do (RFC 6238).</Soft>}
        {error && <Problem error={error} />}
      </Form>
    </Sheet>
  );
}
