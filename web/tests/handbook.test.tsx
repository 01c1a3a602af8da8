// @vitest-environment jsdom
// The handbook says what the screens say: its places are there, its keys do what it says.
import { screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import text from "../../docs/handbook.md?raw";
import { HandbookRoom } from "../src/rooms/Handbook";
import routes from "../src/routes.tsx?raw";
import { stage } from "./stage";

vi.mock("../src/api/client", async (real) => {
  const client = await real<typeof import("../src/api/client")>();
  return { ...client, api: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() } };
});

const sources = import.meta.glob<string>("../src/rooms/**/*.tsx", { query: "?raw", import: "default", eager: true });

afterEach(() => {
  document.body.innerHTML = "";
});

const sections = text
  .split(/^## /m)
  .slice(1)
  .map((section) => ({ title: section.split("\n")[0] ?? "", section }));

test("every place it names is one", () => {
  const places = [...text.matchAll(/\]\((\/[^)#]*)\)/g)].map((found) => found[1] ?? "");
  expect(places.length).toBeGreaterThan(15);
  const known = new Set([...routes.matchAll(/path: "([^"]+)"/g)].map((found) => `/${found[1]}`.replace("//", "/")));
  expect(places.filter((place) => !known.has(place))).toEqual([]);
});

test("every key it names does what it says, on a screen of its page", () => {
  const wrong: string[] = [];
  let checked = 0;
  for (const { title, section } of sections) {
    const named = /<!-- (.*?) -->/.exec(section)?.[1]?.split(", ") ?? [];
    const code = named
      .map((name) => sources[`../src/${name}.tsx`] ?? wrong.push(`${title}: no file ${name}`))
      .join("\n");
    for (const [, key = "", label = ""] of section.matchAll(/`(\w+)` \*\*([^*]+)\*\*/g)) {
      checked += 1;
      const at = [...code.matchAll(new RegExp(`key: "${key}",`, "g"))];
      if (!at.some((found) => code.slice(found.index, (found.index ?? 0) + 260).includes(label))) {
        wrong.push(`${title}: ${key} is not ${label}`);
      }
    }
  }
  expect(wrong).toEqual([]);
  expect(checked).toBeGreaterThan(50);
});

test("it is read on the screen, a page per job", async () => {
  stage(<HandbookRoom />, "/handbook", {});
  await screen.findByRole("heading", { name: "Bill what has shipped" });
  expect(screen.getAllByRole("heading", { level: 2 }).length).toBeGreaterThan(sections.length);
  expect(screen.getByRole("link", { name: "Unbilled" }).getAttribute("href")).toBe("/billing");
  expect(screen.getByRole("cell", { name: "customer PO missing" })).toBeTruthy();
  expect(document.body.textContent).not.toContain("<!--");
});
