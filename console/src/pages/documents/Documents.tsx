import { useSearchParams } from "react-router";
import styled from "styled-components";

import { useApi } from "../../api/client";
import { Loaded, Page, Sheet, Soft } from "../../parts";
import { useTitle } from "../../parts/title";
import { Editor } from "./Editor";

export function Documents() {
  useTitle("Documents");
  const [search, setSearch] = useSearchParams();
  const draft = useApi("GET /api/draft");
  const chosen = search.get("file") ?? "";
  const line = Number(search.get("line") ?? 0);
  return (
    <Page>
      <h1>Documents of the draft</h1>
      <Loaded of={draft}>
        {(files) => {
          const file =
            files.find((f) => f.path === chosen) ?? files.find((f) => f.path.endsWith(".facade.yaml")) ?? files[0];
          if (!file) return <Soft>The draft is empty. Publish a backend, or use `porch push`.</Soft>;
          return (
            <Beside>
              <Sheet>
                <List aria-label="Files">
                  {files.map((f) => (
                    <li key={f.path}>
                      <a
                        href={`?file=${encodeURIComponent(f.path)}`}
                        aria-current={f.path === file.path ? "page" : undefined}
                        onClick={(e) => {
                          e.preventDefault();
                          setSearch({ file: f.path });
                        }}
                        style={{ fontWeight: f.path === file.path ? 600 : 400 }}
                      >
                        {f.path}
                      </a>
                    </li>
                  ))}
                </List>
              </Sheet>
              <Editor key={`${file.path}:${line}`} file={file} line={line} />
            </Beside>
          );
        }}
      </Loaded>
    </Page>
  );
}

const Beside = styled.div`
  display: grid;
  grid-template-columns: 310px minmax(0, 1fr);
  gap: var(--space-4);
  align-items: start;
  @media (max-width: 900px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

const List = styled.ul`
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: var(--space-2);
  overflow-wrap: anywhere;
  font-size: var(--size-s);
`;
