import { useState } from "react";
import { Link } from "react-router";

import { Area, Button, Fold, Loaded, Notice, Pick, Problem, RowOf, Soft } from "../../parts";
import { api, useApi, useChange } from "../client";
import { OfferCard } from "../parts/OfferCard";
import { Content, Grid } from "../parts/Sheets";
import { Text } from "../parts/Text";
import { useTitle } from "../parts/title";
import type { Application, SeenOffer } from "../schema";

export function Offers() {
  useTitle("Offers");
  const offers = useApi("GET /api/offers");
  const session = useApi("GET /api/session");
  return (
    <Content>
      <h1>Offers</h1>
      {!session.data && (
        <Soft>
          <Link to="/sign-in">Sign in</Link> to ask for one.
        </Soft>
      )}
      <Loaded of={offers}>
        {(list) =>
          list.length === 0 ? (
            <Soft>Nothing is offered yet.</Soft>
          ) : (
            <Grid>
              {list.map((o) => (
                <OfferCard key={o.offer.name} offer={o.offer}>
                  {o.text && (
                    <Fold title={`What is accepted, version ${o.offer.accept ?? ""}`}>
                      <Text html={o.text} />
                    </Fold>
                  )}
                  {o.may_ask && <AskFor seen={o} />}
                  {session.data && !o.may_ask && <Soft>It is asked for by {o.offer.asked_by}.</Soft>}
                </OfferCard>
              ))}
            </Grid>
          )
        }
      </Loaded>
    </Content>
  );
}

function AskFor({ seen }: { seen: SeenOffer }) {
  const applications = useApi("GET /api/applications");
  return <Loaded of={applications}>{(list) => <AskWith seen={seen} applications={list} />}</Loaded>;
}

function AskWith({ seen, applications }: { seen: SeenOffer; applications: Application[] }) {
  const { offer } = seen;
  const [chosen, setChosen] = useState("");
  const application = chosen || applications[0]?.name || "";
  const [why, setWhy] = useState("");
  const [accepted, setAccepted] = useState(false);
  const ask = useChange(() =>
    api("POST /api/applications/{application}/requests", {
      path: { application },
      body: { offer: offer.name, why, accept: accepted ? offer.accept : undefined },
    }),
  );
  if (applications.length === 0) {
    return (
      <Soft>
        <Link to="/applications">Register an application</Link> to ask with.
      </Soft>
    );
  }
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        ask.mutate(undefined);
      }}
      style={{ display: "grid", gap: "var(--space-2)" }}
    >
      <Pick
        label={`For which application: ${offer.title}`}
        value={application}
        onChange={setChosen}
        choices={applications.map((a) => a.name)}
      />
      {offer.granted !== "at-once" && (
        <label style={{ display: "grid", gap: 2 }}>
          <small>What it is for; whoever decides reads it</small>
          <Area rows={3} value={why} onChange={(e) => setWhy(e.target.value)} />
        </label>
      )}
      {offer.accept && (
        <label>
          <input type="checkbox" checked={accepted} onChange={(e) => setAccepted(e.target.checked)} /> I accept version{" "}
          {offer.accept} of {offer.title}
        </label>
      )}
      <RowOf>
        <Button type="submit" $kind="main" isDisabled={ask.isPending || (offer.accept != null && !accepted)}>
          Ask for {offer.title}
        </Button>
      </RowOf>
      {ask.data && (
        <Notice $tone="accent" role="status">
          {ask.data.state === "granted" ? (
            <>
              Granted. <Link to={`/applications/${encodeURIComponent(ask.data.consumer)}`}>Make a key</Link> and call.
            </>
          ) : (
            "Asked. You are told what comes of it."
          )}
        </Notice>
      )}
      {ask.error && <Problem error={ask.error} />}
    </form>
  );
}
