import { describe, expect, it } from "vitest";
import { bandLabel, typedBand, typedHertz } from "./band";

describe("a band that is typed", () => {
  it("is read in Hz and kHz, with a point or a comma", () => {
    expect(["300", " 3.4k", "3,4 kHz", "1200 Hz"].map(typedHertz)).toEqual([300, 3400, 3400, 1200]);
    expect(["", "a", "-3", "1e3", "3 k 4"].map(typedHertz)).toEqual(Array(5).fill(Number.NaN));
  });

  it("needs no edge, and says why it is none", () => {
    expect(typedBand("300", "3.4k", 48_000)).toEqual([300, 3400]);
    expect(typedBand("", "", 44_100)).toEqual([0, 22_050]);
    expect(typedBand("300", "300", 48_000)).toMatch("above the lowest");
    expect(typedBand("24k", "", 48_000)).toMatch("nothing above 24 kHz");
    expect(typedBand("low", "3k", 48_000)).toMatch("Hz or kHz");
  });

  it("stands in the sentence by its edges", () => {
    expect(bandLabel([300, 3400], 48_000)).toBe("the band from 300 Hz to 3.4 kHz");
    expect(bandLabel([0, 300], 48_000)).toBe("the band below 300 Hz");
    expect(bandLabel([8000, 24_000], 48_000)).toBe("the band above 8 kHz");
  });
});
