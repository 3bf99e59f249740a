import type { Looked } from "../../api/schema";
import { Field, Soft } from "../../parts";

/** Where calls go: one of the addresses that a definition names, or another. */
export function AddressChoice(props: { look: Looked; address: string; onChange: (address: string) => void }) {
  const { look, address, onChange } = props;
  if (look.addresses.length < 2) return <Field label="Calls go to" value={address} onChange={onChange} />;
  return (
    <fieldset style={{ border: 0, padding: 0, margin: 0, display: "grid", gap: 4 }}>
      <legend>Calls go to</legend>
      {look.addresses.map((one) => (
        <label key={one} style={{ display: "flex", gap: 8, alignItems: "center", minHeight: 24 }}>
          <input type="radio" name="address" checked={address === one} onChange={() => onChange(one)} />
          <code>{one}</code>
          <Soft>
            {look.ports
              .filter((p) => p.address === one)
              .map((p) => `${p.name} of ${p.service}, SOAP ${p.version ?? ""}`)
              .join("; ")}
          </Soft>
        </label>
      ))}
    </fieldset>
  );
}
