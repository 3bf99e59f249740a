const ROLES = ["viewer", "publisher", "administrator"];

/** The roles that somebody may give on. */
export function rolesUpTo(own: string): string[] {
  return ROLES.slice(0, ROLES.indexOf(own) + 1);
}

/** A choice of what may be done. */
export function Role(props: {
  label: string;
  value: string;
  onChange: (role: string) => void;
  hidden?: boolean;
  of?: string[];
}) {
  return (
    <label style={{ display: "grid", gap: 2 }}>
      {!props.hidden && <small>{props.label}</small>}
      <select
        aria-label={props.label}
        value={props.value}
        onChange={(e) => props.onChange(e.target.value)}
        style={{ font: "inherit", padding: 4 }}
      >
        {(props.of ?? ROLES).map((role) => (
          <option key={role}>{role}</option>
        ))}
      </select>
    </label>
  );
}
