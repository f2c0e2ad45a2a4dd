import { expect, test } from "vitest";
import type { Effect, Setting } from "../../api/client";
import { between, read, valuesText, valueText } from "./values";

test("a value is a number, a text, or a course in time", () => {
  expect(read("0.5")).toBe(0.5);
  expect(read("−6")).toBe(-6);
  expect(read(" 4.0 : 1 ")).toBe("4.0 : 1");
  expect(read("half")).toBe("half");
  expect(read("0:0.2, 1.5:half")).toEqual({ at: [0, 1.5], values: [0.2, "half"], ramp: false });
  expect(read("ramp 0:0, 1:1")).toEqual({ at: [0, 1], values: [0, 1], ramp: true });
});

test("values are written with their units, in the order of the parameters", () => {
  const effect = {
    parameters: [
      { name: "Drive", unit: "dB", least: 0, greatest: 24 },
      { name: "Mode", choices: ["a", "b"] },
    ],
  };
  const setting = { values: { Mode: "b", Drive: 6.5 }, preset: "warm.vstpreset" };
  expect(valuesText(effect as unknown as Effect, setting as unknown as Setting)).toBe(
    "the preset warm.vstpreset, Drive 6.5 dB, Mode b",
  );
  expect(valueText({ at: [0, 1.5], values: [0, 6], ramp: true }, "dB")).toBe(
    "0 dB at 0 s, 6 dB at 1.5 s, on lines between",
  );
  expect(effect.parameters.map((one) => between(one as Effect["parameters"][number]))).toEqual([
    "0 to 24 dB",
    "a, b",
  ]);
  expect(valuesText(effect as unknown as Effect, { values: {}, preset: null } as unknown as Setting)).toBe(
    "as it comes",
  );
});
