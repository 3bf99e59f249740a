/** So many characters are laid out; more is shown as it came. */
const MOST = 200_000;

/** XML with a line for each element; what has text beside elements stays as it is, as spaces mean something there. */
export function prettyXml(text: string): string {
  if (text.length > MOST) return text;
  const document = new DOMParser().parseFromString(text, "application/xml");
  if (document.querySelector("parsererror")) return text;
  const declaration = /^\s*<\?xml[^>]*\?>/.exec(text)?.[0].trim();
  const lines = declaration ? [declaration] : [];
  for (const node of document.childNodes) laidOut(node, 0, lines);
  return lines.join("\n");
}

const whole = (node: Node): string => new XMLSerializer().serializeToString(node);

/** The tag that an element begins with, as it is written. */
const beginning = (element: Element): string => whole(element.cloneNode(false)).replace(/(\/>|><\/[^>]*>)$/, "");

function laidOut(node: Node, depth: number, lines: string[]) {
  const pad = "  ".repeat(Math.min(depth, 40));
  if (!(node instanceof Element)) {
    if (node.textContent?.trim()) lines.push(pad + whole(node));
    return;
  }
  const children = [...node.childNodes];
  const mixed = children.some((c) => c.nodeType === Node.TEXT_NODE && c.textContent?.trim());
  const elements = children.filter((c) => c instanceof Element);
  if (mixed || elements.length === 0 || depth > 200) {
    lines.push(pad + whole(node));
    return;
  }
  lines.push(`${pad}${beginning(node)}>`);
  for (const child of children) laidOut(child, depth + 1, lines);
  lines.push(`${pad}</${node.nodeName}>`);
}
