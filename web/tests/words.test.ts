// The words of the screens: one word for one meaning, the one the trade uses. What the server says is held by
// `crates/core/tests/saying.rs`.
import { expect, test } from "vitest";

/** Words that are not said, and what is said instead. */
const unsaid: [RegExp, string][] = [
  [/\bNot now\b/, "Cancel"],
  [/\bPut away\b/, "Dismiss"],
  [/\bDrop\b|\bdropped\b/, "Delete, Cancel, or Exclude"],
  [/\bTake (it )?(back|away|off|over|in again)\b/, "Reverse, Withdraw, Delete, Import, or Include"],
  [/\btaken (back|over)\b/i, "reversed, imported"],
  [/\bSet aside\b/i, "Reserve"],
  [/\bon stop\b/i, "on hold"],
  [/\bGoing out\b/, "Outbox"],
  [/\bby mail\b|\bmail address\b|(?<!e)\bmailed\b/i, "email"],
  [/\bWho did what\b/, "History"],
  [/\btheir (order )?number\b/i, "Customer PO"],
  [/\bGoes to\b/, "Ship to"],
  [/\bLeaves from\b/, "Ship from"],
  [/\bcall-off/i, "Blanket order, release"],
  [/\bMoney lying still\b/i, "Unapplied"],
  [/\b(money|share|bill) ahead\b/i, "prepayment, advance"],
  [/\btie[s]? out\b|\btie-out/i, "reconciled"],
  [/\brecipe/i, "Recurring run"],
  [/\bown fields\b/i, "Custom fields"],
  [/\bAll keys\b/, "Shortcuts"],
  [/\b[Ff]old the tape\b/, "Hide tape"],
  [/\bnot taken\b(?! off)/, "Failed"],
  [/\bbuyer accounts\b/, "Reverse charge"],
  [/\bReceive payment\b/, "Record receipt"],
  [/\b(a|A|every|the) lead\b/, "supervisor"],
  [/\bTelephone\b/i, "Phone"],
  [/\bconsignment number\b/i, "Tracking number"],
  [/\bcancelled\b|\binstalment|\b(kilo)?(litre|metre)\b/i, "the US spelling"],
  [/\b(an|one) (invoice|order) an? (customer|order|shipment|month)\b/i, "per"],
];

const sources = import.meta.glob<string>("../src/**/*.{ts,tsx}", { query: "?raw", import: "default", eager: true });

/** What a file may show: its texts with a space or a capital, and what stands between tags. No comments, no addresses. */
function shown(source: string): string[] {
  const code = source.replace(/\/\*[\s\S]*?\*\//g, "").replace(/^\s*\/\/.*$/gm, "");
  const texts = [...code.matchAll(/"((?:[^"\\\n]|\\.)*)"|`((?:[^`\\\n]|\\.)*)`/g)].map(
    (found) => found[1] ?? found[2] ?? "",
  );
  const between = [...code.matchAll(/>([^<>{}=;]+)[<{]|}([^<>{}=;]+)[<{]/g)].map((found) => found[1] ?? found[2] ?? "");
  const words = (text: string) => /[A-Z]|\s\S/.test(text) && !text.includes("/api/") && !/^[./@]/.test(text);
  return [...texts.map((text) => text.replace(/\$\{[^}]*\}/g, "…")), ...between].filter(words);
}

test("the screens say what the trade says", () => {
  const paths = Object.keys(sources).filter((path) => !path.endsWith("schema.d.ts") && !path.endsWith("types.ts"));
  expect(paths.length).toBeGreaterThan(150);
  const said = paths.flatMap((path) =>
    shown(sources[path] ?? "").flatMap((text) =>
      unsaid
        .filter(([word]) => word.test(text))
        .map(([, better]) => `${path.replace("../src/", "")}: “${text.trim()}”: ${better}`),
    ),
  );
  expect(said).toEqual([]);
});

test("a word that is not said is found where it stands", () => {
  const found = shown('const a = <p title="Drop it">{x} on stop.</p>; // Take over\nimport b from "./recipe";');
  expect(unsaid.filter(([word]) => found.some((text) => word.test(text))).length).toBe(2);
});
