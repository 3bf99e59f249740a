import { Area, Field, Fold } from "../../parts";
import type { Tls } from "./source";

/** A file in PEM, read into a text. */
function Pem({ label, onText }: { label: string; onText: (text: string) => void }) {
  return (
    <label style={{ display: "grid", gap: 4 }}>
      {label}
      <input
        type="file"
        accept=".pem,.crt,.cer,.key,.txt"
        onChange={(e) => void e.target.files?.[0]?.text().then(onText)}
        style={{ minHeight: 28 }}
      />
    </label>
  );
}

/** Whose signatures a server's certificate may have, and what it is shown. What is trusted here is trusted for calls too. */
export function ByTls({ tls, onTls }: { tls: Tls; onTls: (tls: Tls) => void }) {
  return (
    <Fold title="Its certificate is signed by an authority of your own, or it asks for one">
      <Pem label="The authority’s certificate, a file in PEM" onText={(trust) => onTls({ ...tls, trust })} />
      <Area
        aria-label="Certificates in PEM"
        placeholder="-----BEGIN CERTIFICATE-----"
        rows={4}
        value={tls.trust ?? ""}
        onChange={(e) => onTls({ ...tls, trust: e.target.value })}
      />
      <Field
        label="Another name that its certificate has"
        value={tls.server_name ?? ""}
        onChange={(server_name) => onTls({ ...tls, server_name })}
      />
      <Pem
        label="A certificate that it is shown, in PEM; not kept"
        onText={(certificate) => onTls({ ...tls, certificate })}
      />
      <Pem label="That certificate’s key, in PEM; not kept" onText={(key) => onTls({ ...tls, certificate_key: key })} />
    </Fold>
  );
}
