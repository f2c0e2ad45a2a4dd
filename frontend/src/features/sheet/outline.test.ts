import { expect, test } from "vitest";
import { outline } from "./outline";

test("the greatest level has all of the height, half the range half of it, silence none", () => {
  expect(outline([-40, -70, -160])).toBe(
    "polygon(0% 100%, 0.00% 0.0%, 33.33% 0.0%, 33.33% 50.0%, 66.67% 50.0%, 66.67% 100.0%, 100.00% 100.0%, 100% 100%)",
  );
});

test("what is there at all is seen", () => {
  expect(outline([0, -59])).toContain("50.00% 92.0%");
});
