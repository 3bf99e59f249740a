import { Link } from "react-router";

/** A line of a document of the draft. */
export function Place({ file, line, short }: { file: string; line: number; short?: boolean }) {
  const name = short ? file.split("/").pop() : file;
  return (
    <Link to={`/documents?file=${encodeURIComponent(file)}&line=${line}`}>
      {name}
      {line > 0 && `:${line}`}
    </Link>
  );
}
