// @vitest-environment jsdom
import { render } from "@testing-library/react";
import { expect, test } from "vitest";
import { Late } from "../src/parts/bits";

const shown = (days: number, words?: string) => {
  const { container } = render(<Late days={days} words={words} />);
  const span = container.querySelector("span");
  return span && [span.textContent, span.classList.contains("stop"), span.title];
};

test("lateness is marked past sixty days only, and always said in words", () => {
  expect(shown(-3)).toBeNull();
  expect(shown(0)).toBeNull();
  expect(shown(1)).toEqual(["1 day late", false, ""]);
  expect(shown(60)).toEqual(["60 days late", false, ""]);
  expect(shown(61)).toEqual(["◆ 61 days late", true, ""]);
  expect(shown(147, "147 d")).toEqual(["◆ 147 d", true, "147 days late"]);
});
