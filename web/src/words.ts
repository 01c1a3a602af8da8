/** How roles are called: the books keep them by older names. */
export const roleWords = {
  clerk: "clerk",
  lead: "supervisor",
  auditor: "auditor",
  administrator: "administrator",
} as const;

/** A supervisor, an auditor. */
export function withArticle(word: string): string {
  return `${/^[aeiou]/.test(word) ? "an" : "a"} ${word}`;
}
