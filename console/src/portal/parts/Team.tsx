import { useState } from "react";

import { Ask, Button, Field, Loaded, Pick, Problem, RowOf, Sheet, Soft, Table, Tag, When } from "../../parts";
import { api, useApi, useChange } from "../client";
import type { Account, OwnTeam } from "../schema";
import { Form } from "./Sheets";

/** One's team: who is of it, who is invited, and for which one acts. */
export function Team({ account }: { account: Account }) {
  const team = useApi("GET /api/team");
  return (
    <Sheet aria-label="Team">
      <h2>Team</h2>
      <Teams />
      <Loaded of={team}>{(t) => <Members of={t} account={account} />}</Loaded>
      {account.manages && <Invite />}
    </Sheet>
  );
}

function Teams() {
  const teams = useApi("GET /api/teams");
  const act = useChange((team: number) => api("POST /api/teams/{team}/act", { path: { team } }));
  const all = teams.data ?? [];
  if (all.length < 2) return null;
  return (
    <>
      <Pick
        label="You act for"
        value={String(all.find((t) => t.now)?.id ?? "")}
        onChange={(id) => act.mutate(Number(id))}
        choices={all.map((t): [string, string] => [String(t.id), t.name])}
      />
      {act.error && <Problem error={act.error} />}
    </>
  );
}

function Members({ of, account }: { of: OwnTeam; account: Account }) {
  const change = useChange((m: { email: string; manages: boolean }) =>
    api("PUT /api/team/members/{email}", { path: { email: m.email }, body: { manages: m.manages } }),
  );
  const remove = useChange((email: string) => api("DELETE /api/team/members/{email}", { path: { email } }));
  const withdraw = useChange((email: string) => api("DELETE /api/team/invitations/{email}", { path: { email } }));
  const error = change.error ?? remove.error ?? withdraw.error;
  return (
    <>
      <Table
        label="Members"
        head={["Member", "Manages", ""]}
        empty=""
        rows={of.members.map((m) => ({
          key: m.email,
          worth: [m.email, m.manages ? 1 : 0, ""],
          cells: [
            <span key="m">
              {m.name}
              <br />
              <Soft>{m.email}</Soft>
            </span>,
            m.manages ? (
              <Tag key="t" $tone="accent">
                manages
              </Tag>
            ) : (
              ""
            ),
            <RowOf key="a" $gap="var(--space-1)">
              {account.manages && (
                <Button
                  aria-label={`${m.manages ? "No longer manages" : "Manages"}: ${m.email}`}
                  onPress={() => change.mutate({ email: m.email, manages: !m.manages })}
                >
                  {m.manages ? "No longer manages" : "Manages"}
                </Button>
              )}
              {(account.manages || m.email === account.email) && (
                <Ask
                  label={m.email === account.email ? "Leave" : "Take out"}
                  name={`${m.email === account.email ? "Leave" : "Take out"} ${m.email}`}
                  title={m.email === account.email ? `Leave ${of.name}?` : `Take ${m.email} out of ${of.name}?`}
                  onYes={() => remove.mutate(m.email)}
                >
                  They see nothing of the team any more. Keys that they know are good still: renew them.
                </Ask>
              )}
            </RowOf>,
          ],
        }))}
      />
      {of.invitations.length > 0 && (
        <Table
          label="Invitations"
          head={["Invited", "When", "Good until", ""]}
          empty=""
          rows={of.invitations.map((i) => ({
            key: i.email,
            cells: [
              i.email,
              <When key="s" at={i.sent_at} />,
              <When key="e" at={i.expires_at} />,
              account.manages ? (
                <Button key="w" aria-label={`Withdraw ${i.email}`} onPress={() => withdraw.mutate(i.email)}>
                  Withdraw
                </Button>
              ) : (
                ""
              ),
            ],
          }))}
        />
      )}
      {error && <Problem error={error} />}
    </>
  );
}

function Invite() {
  const [email, setEmail] = useState("");
  const invite = useChange(() => api("POST /api/team/invitations", { body: { email } }));
  return (
    <Form onSend={() => invite.mutate(undefined, { onSuccess: () => setEmail("") })}>
      <RowOf>
        <Field label="Invite somebody by e-mail" value={email} onChange={setEmail} type="email" />
        <Button type="submit" isDisabled={invite.isPending || !email} style={{ alignSelf: "end" }}>
          Invite
        </Button>
      </RowOf>
      {invite.error && <Problem error={invite.error} />}
    </Form>
  );
}
