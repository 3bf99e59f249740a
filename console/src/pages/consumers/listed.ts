/** Names that somebody wrote with commas between them. */
export const listed = (text: string): string[] =>
  text
    .split(",")
    .map((name) => name.trim())
    .filter(Boolean);
