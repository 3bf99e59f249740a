import { useState } from "react";
import { Link, useParams } from "react-router";
import styled from "styled-components";

import { Button, Field, Loaded, RowOf, Sheet, Soft, Tag } from "../../parts";
import { useApi } from "../client";
import { modelPath } from "../docs/links";
import { useDocument } from "../docs/useDocument";
import { Changed, datesOf } from "../parts/Changes";
import { OfferCard } from "../parts/OfferCard";
import { Content, Grid, Method } from "../parts/Sheets";
import { Text } from "../parts/Text";
import { useTitle } from "../parts/title";
import type { OperationLine, ShownFacade } from "../schema";

export function FacadePage() {
  const { facade = "" } = useParams();
  const shown = useApi("GET /api/facades/{facade}", { path: { facade } });
  useTitle(shown.data?.title ?? "");
  return (
    <Content>
      <Loaded of={shown}>{(f) => <Shown of={f} />}</Loaded>
    </Content>
  );
}

/** From so many operations on they can be searched. */
const MANY = 20;

/** Operations by their first tag; those without one last. */
function byTag(all: OperationLine[]): [string, OperationLine[]][] {
  const groups = new Map<string, OperationLine[]>();
  for (const o of all) {
    const tag = o.tags[0] ?? "";
    groups.set(tag, [...(groups.get(tag) ?? []), o]);
  }
  return [...groups].sort(([a], [b]) => Number(a === "") - Number(b === ""));
}

function Shown({ of }: { of: ShownFacade }) {
  const ways = [...new Set(of.operations.flatMap((o) => o.credentials.map((c) => c.how)))];
  const [sought, setSought] = useState("");
  const words = sought.toLowerCase().split(/\s+/).filter(Boolean);
  const shown = of.operations.filter((o) => {
    const text = `${o.id} ${o.method} ${o.path} ${o.summary} ${o.tags.join(" ")}`.toLowerCase();
    return words.every((w) => text.includes(w));
  });
  const open = of.operations.some((o) => o.credentials.length === 0);
  return (
    <>
      <div>
        <h1>{of.title}</h1>
        <RowOf>
          <Tag>version {of.version}</Tag>
          <code>{of.address}</code>
          <a href={`/facades/${of.name}/openapi.json`}>OpenAPI document</a>
        </RowOf>
      </div>
      <Text html={of.description} />
      {ways.length > 0 && (
        <p>
          Callers show {ways.join(", or ")}
          {open && "; some operations ask for nothing"}.
        </p>
      )}
      {of.operations.length > 0 && ways.length === 0 && <p>Nobody is asked for a key.</p>}
      <Sheet aria-label="Operations">
        <h2>Operations</h2>
        {of.operations.length > MANY && (
          <Field label={`Search among ${of.operations.length}`} value={sought} onChange={setSought} />
        )}
        {shown.length === 0 && <Soft>Nothing fits.</Soft>}
        {byTag(shown).map(([tag, operations]) => (
          <div key={tag}>
            {tag && <h3>{tag}</h3>}
            <List>
              {operations.map((o) => (
                <li key={o.id}>
                  <Method>{o.method}</Method> <code>{o.path}</code>
                  <br />
                  <Link to={`/facades/${of.name}/${encodeURIComponent(o.id)}`}>{o.summary || o.id}</Link>{" "}
                  {o.deprecated && <Tag $tone="warn">going away</Tag>} {datesOf(o) && <Soft>{datesOf(o)}</Soft>}
                </li>
              ))}
            </List>
          </div>
        ))}
      </Sheet>
      <Models facade={of.name} />
      <History facade={of.name} />
      <section aria-label="Offers that open it">
        <h2>Offers that open it</h2>
        {of.offers.length === 0 ? (
          <Soft>None that you see.</Soft>
        ) : (
          <Grid style={{ marginTop: "var(--space-2)" }}>
            {of.offers.map((o) => (
              <OfferCard key={o.name} offer={o} />
            ))}
          </Grid>
        )}
      </section>
    </>
  );
}

/** The models of its contract, by name. */
function Models({ facade }: { facade: string }) {
  const document = useDocument(facade);
  const names = Object.keys(document.data?.components?.schemas ?? {}).sort();
  if (names.length === 0) return null;
  return (
    <Sheet aria-label="Models">
      <h2>Models</h2>
      <RowOf>
        {names.map((name) => (
          <Link key={name} to={modelPath(facade, name)}>
            {name}
          </Link>
        ))}
      </RowOf>
    </Sheet>
  );
}

/** What was changed of it, release by release. */
function History({ facade }: { facade: string }) {
  const [before, setBefore] = useState<number>();
  const changes = useApi("GET /api/facades/{facade}/changes", { path: { facade }, query: { before } });
  return (
    <Sheet aria-label="What changed">
      <h2>What changed</h2>
      <Loaded of={changes}>
        {(list) => (
          <>
            {list.length === 0 && <Soft>Nothing yet.</Soft>}
            {list.map((c) => (
              <div key={c.id}>
                <Changed of={c} most={50} />
              </div>
            ))}
            {(list.length >= 20 || before !== undefined) && (
              <RowOf>
                {before !== undefined && <Button onPress={() => setBefore(undefined)}>The newest</Button>}
                {list.length >= 20 && <Button onPress={() => setBefore(list.at(-1)?.id)}>Older</Button>}
              </RowOf>
            )}
          </>
        )}
      </Loaded>
    </Sheet>
  );
}

const List = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: var(--space-3);
  overflow-wrap: anywhere;
`;
