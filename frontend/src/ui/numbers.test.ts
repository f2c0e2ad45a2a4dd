import { describe, expect, it } from "vitest";
import type { Measure, Reading } from "../api/client";
import { count, duration, ended, limitText, number, valueText } from "./numbers";

const measure = (of: Partial<Measure>) => ({ key: "rms", decimals: 2, drawing: "number", ...of }) as Measure;
const reading = (value: number | null) => ({ value }) as Reading;

describe("number", () => {
  it.each([
    [-12.345, 2, false, "−12.35"],
    [12.3, 1, true, "+12.3"],
    [-0.004, 2, true, "0.00"],
    [1_234_567, 0, false, "1\u2009234\u2009567"],
    [-999.9999, 2, false, "−1\u2009000.00"],
  ])("%f with %i decimals", (value, decimals, signed, text) => {
    expect(number(value, decimals, signed)).toBe(text);
  });
});

describe("limits", () => {
  it.each([
    [{ at_least: -0.1, at_most: 0.1 }, "±0.10"],
    [{ at_least: 3, at_most: 3 }, "= 3"],
    [{ at_least: null, at_most: -80 }, "≤ −80"],
    [{ at_least: 20, at_most: null }, "≥ 20"],
    [{ at_least: 20, at_most: 40 }, "20 to 40"],
  ])("of %o", (limit, text) => {
    expect(limitText(limit, measure({}))).toBe(text);
  });

  it("of a sign is the sign", () => {
    expect(limitText({ at_least: 1, at_most: null }, measure({ drawing: "sign" }))).toBe("+1");
  });

  it("of a flag are words", () => {
    expect(limitText({ at_least: null, at_most: 0 }, measure({ drawing: "flag" }))).toBe("no");
  });
});

describe("values", () => {
  it("show a dash where there is none, and a sign where either direction means something", () => {
    expect(valueText(reading(null), measure({}))).toBe("—");
    expect(valueText(reading(0.5), measure({}))).toBe("0.50");
    expect(valueText(reading(0.5), measure({ signed: true }))).toBe("+0.50");
    expect(valueText(reading(1), measure({ drawing: "sign", decimals: 0 }))).toBe("+1");
    expect(valueText(reading(1), measure({ drawing: "flag" }))).toBe("yes");
  });
});

it("counts and durations", () => {
  expect(count(1, "cell")).toBe("1 cell");
  expect(count(0, "entry", "entries")).toBe("0 entries");
  expect(duration(59.2)).toBe("60 s");
  expect(duration(61)).toBe("2 min");
});

describe("ended", () => {
  it.each([
    ["Approved: 1 cell, by Nora F.", "Approved: 1 cell, by Nora F."],
    ["Approved: 1 cell, by Ada", "Approved: 1 cell, by Ada."],
  ])("%s", (said, whole) => expect(ended(said)).toBe(whole));
});
