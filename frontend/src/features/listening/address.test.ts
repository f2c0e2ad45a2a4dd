import { describe, expect, test } from "vitest";
import { listenAddress, readPlace, USUAL, writePlace } from "./address";

const SIDES = [
  { spec: "ab12", name: "Reference" },
  { spec: "cd34~opus-96", name: "a copy | with a bar" },
  { spec: "cd34!ab12", name: "difference" },
];

describe("what is listened to stands in the address", () => {
  test.each([
    {},
    { align: "fraction" as const, by: "rms" as const },
    { passage: "differs most" as const },
    { passage: null, start: 1.25, end: 3 },
    { low: 707, high: 1414 },
  ])("%j comes back", (also) => {
    const place = { asked: { ...USUAL, ...also, sides: SIDES }, subject: "cells/12" };
    expect(readPlace(writePlace(place))).toEqual(place);
  });

  test("what is usual is left out, and what makes no sense is usual", () => {
    expect(listenAddress([{ spec: "ab", name: "x" }], "")).toBe("/listen?side=ab%7Cx");
    const read = readPlace(
      new URLSearchParams("side=ab|x&side=broken&align=sideways&passage=9-3&band=high&by=7"),
    );
    expect(read).toEqual({ asked: { ...USUAL, sides: [{ spec: "ab", name: "x" }] }, subject: "" });
  });
});
