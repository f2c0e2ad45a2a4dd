import { expect, it } from "vitest";
import { reasonText, verdictText } from "./words";

it("says of a cell that is under way what is done with it, and not that a reference lacks", () => {
  expect(verdictText("Waiting")).toBe("No reference yet");
  expect(verdictText("Waiting", "rendering")).toBe("Rendering");
  expect(verdictText("Fail", "done")).toBe("Fail");
  expect(verdictText("No reading", "failed")).toBe("No reading");
});

it("gives a reason where it says more than the name of the verdict", () => {
  expect(reasonText({ verdict: "Waiting", state: "done", why: "No reference is approved yet" })).toBe("");
  expect(reasonText({ verdict: "Waiting", state: "analysing", why: "waits for memory" })).toBe(
    "waits for memory",
  );
  expect(reasonText({ verdict: "Fail", state: "done", why: "Silent" })).toBe("Silent");
});
