import { Link } from "react-router";

import type { Finding, Looked } from "../../api/schema";
import { Findings, Notice } from "../../parts";

/** Where to go on from here. */
export function InTheDraft(props: { name: string; operations: Looked["operations"]; findings: Finding[] }) {
  const { name, operations, findings } = props;
  return (
    <Notice $tone="accent">
      <strong>{name} is in the draft.</strong> <Link to={`/facades/${name}`}>Open the facade</Link>, or try{" "}
      {operations.slice(0, 3).map((o) => (
        <span key={o.id}>
          <Link to={`/facades/${name}/${o.id}`}>{o.id}</Link>,{" "}
        </span>
      ))}
      then <Link to="/release">release it</Link>: until then callers get 404.
      <Findings findings={findings.filter((f) => f.file.startsWith(`${name}/`))} />
    </Notice>
  );
}
