/** Microseconds in a unit that reads well. */
export function took(us: number): string {
  if (us < 1000) return `${us} µs`;
  if (us < 1_000_000) return `${(us / 1000).toFixed(1)} ms`;
  return `${(us / 1_000_000).toFixed(2)} s`;
}

/** Milliseconds since 1970 as date and time where the reader is. */
export function time(ms: number): string {
  const t = new Date(ms);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${t.getFullYear()}-${two(t.getMonth() + 1)}-${two(t.getDate())} ${two(t.getHours())}:${two(t.getMinutes())}:${two(t.getSeconds())}`;
}

/** A time as people say it: how long ago, or in how long. */
export function ago(ms: number, now: number): string {
  const seconds = Math.round(Math.abs(now - ms) / 1000);
  const [n, unit] =
    seconds < 60
      ? [seconds, "second"]
      : seconds < 3600
        ? [Math.floor(seconds / 60), "minute"]
        : seconds < 86_400
          ? [Math.floor(seconds / 3600), "hour"]
          : [Math.floor(seconds / 86_400), "day"];
  if (unit === "day" && n > 13) return time(ms).slice(0, 10);
  const said = `${n} ${unit}${n === 1 ? "" : "s"}`;
  if (seconds < 5) return "just now";
  return ms > now ? `in ${said}` : `${said} ago`;
}

/** JSON laid out for reading, and other text as it is. */
export function pretty(text: string): string {
  const start = text.trimStart().charAt(0);
  if (start === "<") return prettyXml(text);
  return start === "{" || start === "[" ? prettyJson(text) : text;
}

/** Lays JSON out without parsing numbers, so that no digit is lost. */
export function prettyJson(text: string): string {
  let out = "";
  let depth = 0;
  let inText = false;
  for (let i = 0; i < text.length; i++) {
    const c = text.charAt(i);
    if (inText) {
      out += c;
      if (c === "\\") out += text.charAt(++i);
      else if (c === '"') inText = false;
      continue;
    }
    const next = text.charAt(i + 1);
    if (c === '"') {
      inText = true;
      out += c;
    } else if ((c === "{" && next === "}") || (c === "[" && next === "]")) {
      out += c + next;
      i++;
    } else if (c === "{" || c === "[") out += `${c}\n${"  ".repeat(++depth)}`;
    else if (c === "}" || c === "]") out += `\n${"  ".repeat(Math.max(0, --depth))}${c}`;
    else if (c === ",") out += `,\n${"  ".repeat(depth)}`;
    else if (c === ":") out += ": ";
    else if (c.trim() !== "") out += c;
  }
  return out;
}

/** Puts each element on a line of its own; text stays beside its tags. */
function prettyXml(text: string): string {
  const parts = text.replace(/>\s*</g, ">\u0000<").split("\u0000");
  let depth = 0;
  return parts
    .map((part) => {
      if (part.startsWith("</")) depth--;
      const line = "  ".repeat(Math.max(0, depth)) + part;
      if (/^<[^/?!]/.test(part) && !part.endsWith("/>") && !/<\//.test(part)) depth++;
      return line;
    })
    .join("\n");
}
