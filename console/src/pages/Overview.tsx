import { Link } from "react-router";
import styled from "styled-components";

import { useApi } from "../api/client";
import type { Minute, Overview as Data } from "../api/schema";
import { DraftTag, Loaded, Notice, Page, RowOf, Sheet, Soft } from "../parts";
import { time, took } from "../parts/format";
import { useTitle } from "../parts/title";

const Figures = styled.dl`
  margin: 0;
  display: grid;
  grid-template-columns: repeat(5, 1fr);
  gap: var(--space-3);
  dt {
    color: var(--ink-soft);
    font-size: var(--size-s);
  }
  dd {
    margin: 0;
    font-size: var(--size-xl);
    font-variant-numeric: tabular-nums;
  }
  dd small {
    display: block;
    font-size: var(--size-s);
    color: var(--ink-soft);
  }
`;

const Legend = styled(RowOf)`
  font-size: var(--size-s);
  color: var(--ink-soft);
  svg {
    vertical-align: -1px;
  }
`;

/** Calls of the last sixty minutes, a bar a minute: answered below, refused and failed on top. */
function Bars({ minutes }: { minutes: Minute[] }) {
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

const Key = ({ colour, text }: { colour: string; text: string }) => (
  <span>
    <svg width="10" height="10" aria-hidden>
      <rect width="10" height="10" fill={`var(--${colour})`} />
    </svg>{" "}
    {text}
  </span>
);

function Content({ data }: { data: Data }) {
  const figure = (name: string, now: string | number, before: string | number) => (
    <div>
      <dt>{name}</dt>
      <dd>
        {now}
        <small>before: {before}</small>
      </dd>
    </div>
  );
  return (
    <>
      {data.trouble && <Notice $tone="bad">{data.trouble}</Notice>}
      {data.unreleased.length > 0 && (
        <Notice $tone="warn">
          <strong>Not released:</strong> callers are not served the draft of{" "}
          {data.unreleased.map((d, i) => (
            <span key={d.facade}>
              {i > 0 && ", "}
              <Link to={`/facades/${d.facade}`}>{d.facade}</Link> <DraftTag status={d.status} />
            </span>
          ))}
          . <Link to="/release">Compare and release</Link>
        </Notice>
      )}
      {data.errors > 0 && (
        <Notice $tone="bad">
          The draft has {data.errors} {data.errors === 1 ? "error" : "errors"}.{" "}
          <Link to="/documents">See the documents</Link>
        </Notice>
      )}
      {data.paused.length > 0 && (
        <Notice $tone="warn">
          Paused: {data.paused.map(([facade, operation]) => `${facade} ${operation}`.trim()).join(", ")}
        </Notice>
      )}
      <Sheet>
        <h2>Traffic of the last hour</h2>
        <Figures>
          {figure("calls", data.now.calls, data.before.calls)}
          {figure("refused (4xx)", data.now.refused, data.before.refused)}
          {figure("failed (5xx)", data.now.failed, data.before.failed)}
          {figure("half answered within", took(data.now.p50_us), took(data.before.p50_us))}
          {figure("99 % answered within", took(data.now.p99_us), took(data.before.p99_us))}
        </Figures>
        <Bars minutes={data.minutes} />
        <Legend>
          <Key colour="accent" text="answered" />
          <Key colour="warn" text="refused" />
          <Key colour="bad" text="failed" />
          {data.lost_records > 0 && <span>{data.lost_records} records were lost</span>}
        </Legend>
      </Sheet>
      <Sheet>
        <h2>What is served</h2>
        {data.release === 0 ? (
          <p>
            Nothing yet. <Link to="/publish">Publish a backend</Link>, then release it.
          </p>
        ) : (
          <p>
            {data.environment} serves release {data.release}
            {data.from_disk && ", from disk"}, made by {data.made_by} at {time(data.made_at)}.
          </p>
        )}
        <p>
          <Soft>Callers reach it at</Soft> <code>{data.gateway}</code>
        </p>
      </Sheet>
    </>
  );
}

export function Overview() {
  useTitle("Where things stand");
  const overview = useApi("GET /api/overview", {}, 5000);
  return (
    <Page>
      <h1>Where things stand</h1>
      <Loaded of={overview}>{(data) => <Content data={data} />}</Loaded>
    </Page>
  );
}
