import type { ProbedAddress, ProbeView } from "../../api/schema";
import { RowOf, Sheet, Soft, Tag } from "../../parts";
import { took } from "../../parts/format";

const DAY = 86_400_000;

/** What was found of a backend: each address, its certificate, and what was shown. */
export function Probed({ found }: { found: ProbeView }) {
  return (
    <Sheet role="region" aria-label={`What was found of ${found.name}`}>
      <h2>{found.name}</h2>
      <Soft>
        {found.shown.length > 0 ? `Calls are shown: ${found.shown.join(", ")}.` : "Calls carry no credential."}
      </Soft>
      {found.addresses.map((a) => (
        <Address key={a.address} a={a} />
      ))}
    </Sheet>
  );
}

function Address({ a }: { a: ProbedAddress }) {
  const certificate = a.certificate;
  return (
    <div style={{ display: "grid", gap: 4 }}>
      <RowOf>
        <code>{a.address}</code>
        {!a.reached && <Tag $tone="bad">not reached</Tag>}
        {a.reached && (a.refused ? <Tag $tone="bad">refused</Tag> : <Tag $tone="good">is there</Tag>)}
        <Soft>in {took(a.us)}</Soft>
      </RowOf>
      {a.reached ? (
        <div>
          <code>{a.asked}</code> answers {a.told} <Soft>from {a.at}</Soft>
        </div>
      ) : (
        <div>
          {a.told} <Soft>{a.help}</Soft>
        </div>
      )}
      {a.refused && <div>It refuses what it is shown, or wants to be shown something.</div>}
      {certificate && (
        <div>
          {a.tls}, certificate {certificate.subject} for {certificate.names.join(", ")}, {ending(certificate.ends)}{" "}
          <Soft>signed by {certificate.issuer}</Soft>
        </div>
      )}
    </div>
  );
}

/** Until when a certificate holds, and how many days that is from now. */
function ending(ends: number): string {
  const day = new Date(ends).toISOString().slice(0, 10);
  const left = Math.floor((ends - Date.now()) / DAY);
  return left < 0 ? `ended ${day}` : `holds until ${day} (${left} days)`;
}
