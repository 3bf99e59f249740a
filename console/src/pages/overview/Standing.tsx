import styled from "styled-components";

import type { Overview as Data } from "../../api/schema";
import { RowOf, Sheet } from "../../parts";
import { took } from "../../parts/format";
import { Bars } from "./Bars";
import { Key } from "./Key";
import { Served } from "./Served";
import { Warnings } from "./Warnings";

export function Standing({ data }: { data: Data }) {
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
      <Warnings data={data} />
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
      <Served data={data} />
    </>
  );
}

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
