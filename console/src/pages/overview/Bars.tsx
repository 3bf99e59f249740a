import type { Minute } from "../../api/schema";

/** Calls of the last sixty minutes, a bar a minute: answered below, refused and failed on top. */
export function Bars({ minutes }: { minutes: Minute[] }) {
  const most = Math.max(1, ...minutes.map((m) => m.calls));
  const height = 120;
  const y = (n: number) => (n / most) * (height - 18);
  return (
    <svg
      viewBox={`0 0 960 ${height + 18}`}
      role="img"
      aria-label={`Calls in each of the last sixty minutes, at most ${most}`}
      width="100%"
    >
      <line x1="0" x2="960" y1={height} y2={height} stroke="var(--line)" />
      <text x="0" y="11" fontSize="11" fill="var(--ink-soft)">
        {most} a minute
      </text>
      {minutes.map((m, i) => {
        const good = y(m.calls - m.refused - m.failed);
        const refused = y(m.refused);
        const failed = y(m.failed);
        const x = (i * 960) / minutes.length + 1;
        const width = 960 / minutes.length - 2;
        return (
          <g key={m.minute}>
            <rect x={x} width={width} y={height - good} height={good} fill="var(--accent)" />
            <rect x={x} width={width} y={height - good - refused} height={refused} fill="var(--warn)" />
            <rect x={x} width={width} y={height - good - refused - failed} height={failed} fill="var(--bad)" />
          </g>
        );
      })}
      <text x="0" y={height + 14} fontSize="11" fill="var(--ink-soft)">
        an hour ago
      </text>
      <text x="960" y={height + 14} fontSize="11" fill="var(--ink-soft)" textAnchor="end">
        now
      </text>
    </svg>
  );
}
