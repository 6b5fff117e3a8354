import { describe, expect, it } from "vitest";
import { bytes, percent, plural, span, took } from "./formats";

describe("numbers as they are written", () => {
  it("gives spans the unit that a person would use", () => {
    expect([0.25, 59, 119.6, 121, 7200, 12_060, 172_800].map(span)).toEqual(
      ["0.3 s", "59 s", "120 s", "2 min", "2 h 00", "3 h 21", "2 d"].map((one) => one.replaceAll(" ", "\u00a0")),
    );
  });
  it("tells micro- from milliseconds and seconds", () => {
    expect([900, 9_940, 10_400, 1_250_000].map(took)).toEqual([
      "0.9\u00a0ms",
      "9.9\u00a0ms",
      "10\u00a0ms",
      "1.3\u00a0s",
    ]);
  });
  it("counts in groups and in the right number", () => {
    expect([plural(1, "call"), plural(0, "call"), plural(12_345, "call")]).toEqual([
      "1 call",
      "0 calls",
      "12,345 calls",
    ]);
    expect([percent(1, 3), percent(0, 0), bytes(999), bytes(1000)]).toEqual([
      "33.3\u00a0%",
      "0\u00a0%",
      "999\u00a0B",
      "1.0\u00a0kB",
    ]);
  });
});
