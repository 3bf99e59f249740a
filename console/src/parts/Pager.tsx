import { Button } from "./Button";
import { RowOf } from "./Layout";

/** So many are shown at a time. */
export const PAGE = 100;

/** Ways to the page before and behind; `marks` are where the pages begin, the last of them the one that is shown. */
export function Pager(props: {
  marks: number[];
  onChange: (marks: number[]) => void;
  /** How many are shown, and the number of the last of them. */
  shown: number;
  last: number | undefined;
  names: [string, string];
}) {
  const { marks, onChange, shown, last, names } = props;
  if (marks.length === 0 && shown < PAGE) return null;
  return (
    <RowOf>
      <Button isDisabled={marks.length === 0} onPress={() => onChange(marks.slice(0, -1))}>
        {names[0]}
      </Button>
      <Button isDisabled={shown < PAGE} onPress={() => onChange([...marks, last ?? 0])}>
        {names[1]}
      </Button>
    </RowOf>
  );
}
