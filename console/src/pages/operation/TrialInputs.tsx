import styled from "styled-components";

import { Field } from "../../parts";

type Texts = Record<string, string>;

const Inputs = styled.div`
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(180px, 1fr));
  gap: var(--space-3);
`;

/** The parameters of a trial run. */
export function TrialInputs(props: {
  path: Texts;
  onPath: (path: Texts) => void;
  query: Texts;
  cookies: Texts;
  onCookies: (cookies: Texts) => void;
  onQuery: (query: Texts) => void;
  headers: Texts;
  onHeaders: (headers: Texts) => void;
}) {
  const { path, onPath, query, onQuery, cookies, onCookies, headers, onHeaders } = props;
  return (
    <Inputs>
      {Object.entries(path).map(([name, value]) => (
        <Field key={name} label={`path ${name}`} value={value} onChange={(v) => onPath({ ...path, [name]: v })} />
      ))}
      {Object.entries(query).map(([name, value]) => (
        <Field key={name} label={`query ${name}`} value={value} onChange={(v) => onQuery({ ...query, [name]: v })} />
      ))}
      {Object.entries(cookies).map(([name, value]) => (
        <Field
          key={name}
          label={`cookie ${name}`}
          value={value}
          onChange={(v) => onCookies({ ...cookies, [name]: v })}
        />
      ))}
      {Object.entries(headers).map(([name, value]) => (
        <Field
          key={name}
          label={`header ${name}`}
          value={value}
          onChange={(v) => onHeaders({ ...headers, [name]: v })}
        />
      ))}
    </Inputs>
  );
}
