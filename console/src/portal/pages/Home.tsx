import { Link, useSearchParams } from "react-router";
import styled from "styled-components";

import { Field, Loaded, Sheet, Soft, Tag } from "../../parts";
import { useApi } from "../client";
import { Changed } from "../parts/Changes";
import { Content, Grid, Method } from "../parts/Sheets";
import { Text } from "../parts/Text";
import { useTitle } from "../parts/title";
import type { CatalogueView } from "../schema";

export function Home() {
  useTitle("");
  const [query, setQuery] = useSearchParams();
  const search = query.get("search") ?? "";
  const portal = useApi("GET /api/portal");
  const catalogue = useApi("GET /api/catalogue", { query: { search } });
  return (
    <Content>
      {portal.data && (
        <>
          <h1>{portal.data.title}</h1>
          {portal.data.summary && <Lead>{portal.data.summary}</Lead>}
          {portal.data.front && !search && <Text html={portal.data.front} />}
        </>
      )}
      <Search role="search">
        <Field
          label="Search names, paths, parameters and members"
          value={search}
          onChange={(text) => setQuery(text ? { search: text } : {}, { replace: true })}
        />
      </Search>
      <Loaded of={catalogue}>
        {(found) => (search ? <Results of={found} search={search} /> : <Groups of={found} />)}
      </Loaded>
      {!search && <News />}
    </Content>
  );
}

/** What is new of what one sees. */
function News() {
  const news = useApi("GET /api/news");
  const list = (news.data ?? []).slice(0, 5);
  if (list.length === 0) return null;
  return (
    <Sheet aria-label="What is new">
      <h2>What is new</h2>
      {list.map((n) => (
        <div key={n.id}>
          <h3>
            <Link to={`/facades/${n.facade}`}>{n.title}</Link>
          </h3>
          <Changed of={n} most={3} />
        </div>
      ))}
    </Sheet>
  );
}

function Results({ of, search }: { of: CatalogueView; search: string }) {
  if (of.found.length === 0) {
    return <Soft role="status">Nothing fits “{search}”. Fewer words find more.</Soft>;
  }
  return (
    <Sheet aria-label="Operations found">
      <h2>{of.found.length === 1 ? "1 operation" : `${of.found.length} operations`}</h2>
      <List>
        {of.found.map((f) => (
          <li key={`${f.facade} ${f.operation.id}`}>
            <Method>{f.operation.method}</Method>{" "}
            <Link to={`/facades/${f.facade}/${encodeURIComponent(f.operation.id)}`}>
              {f.operation.summary || f.operation.id}
            </Link>{" "}
            {f.operation.deprecated && <Tag $tone="warn">going away</Tag>}{" "}
            <Soft>
              {f.title}, <code>{f.operation.path}</code>
            </Soft>
          </li>
        ))}
      </List>
    </Sheet>
  );
}

function Groups({ of }: { of: CatalogueView }) {
  const shown = of.groups.filter((g) => g.facades.length > 0);
  if (shown.length === 0) return <Soft>There is nothing to be seen here yet.</Soft>;
  return shown.map((group) => (
    <section key={group.title} aria-label={group.title}>
      <h2>{group.title}</h2>
      <Soft>{group.summary}</Soft>
      <Grid style={{ marginTop: "var(--space-2)" }}>
        {group.facades.map((f) => (
          <Sheet key={f.name}>
            <h3>
              <Link to={`/facades/${f.name}`}>{f.title}</Link>
            </h3>
            <p>{f.summary}</p>
            <Soft>
              version {f.version}, {f.operations === 1 ? "1 operation" : `${f.operations} operations`}
            </Soft>
          </Sheet>
        ))}
      </Grid>
    </section>
  ));
}

const Lead = styled.p`
  font-size: var(--size-l);
  color: var(--ink-soft);
  max-width: 46rem;
`;

const Search = styled.div`
  max-width: 30rem;
`;

const List = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: var(--space-2);
  overflow-wrap: anywhere;
`;
