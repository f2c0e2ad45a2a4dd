import { expect, test } from "vitest";
import { KEY_LIST } from "./keylist";

test.each(KEY_LIST)("no key of $screen does two things, and each is explained", ({ keys }) => {
  const names = keys.map(([name]) => name).filter((name) => !name.includes("plot"));
  const single = names.flatMap((name) => name.split(/, | and /));
  expect(single).toHaveLength(new Set(single).size);
  for (const [, what] of keys) expect(what.length).toBeGreaterThan(4);
});
