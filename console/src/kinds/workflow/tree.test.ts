import { expect, test } from "vitest";
import {
  blocks,
  flat,
  freeName,
  inserted,
  moved,
  removed,
  renamed,
  replaced,
  says,
  TOP,
  withLine,
  type Steps,
} from "./tree";

const STEPS: Steps = {
  know: {
    attempt: { vessel: { call: "vessel.get" } },
    catch: { NotFound: { steps: { unknown: { fail: "VesselNotFound" } } } },
  },
  size: { when: { big: { test: "x > 3", steps: { a: { note: "1" } } } }, otherwise: { b: { note: "2" } } },
  both: { parallel: { left: { steps: { c: { wait: "1" } } }, right: {} } },
  each: { for_each: "list", item: "one", steps: { d: { set: { y: "one" } } } },
  done: { reply: {} },
};
const PATHS = [
  "know",
  "know.vessel",
  "know.catch.NotFound.unknown",
  "size",
  "size.big.a",
  "size.otherwise.b",
  "both",
  "both.left.c",
  "each",
  "each.d",
  "done",
];

test("steps are named by their paths", () => {
  expect(flat(STEPS).map((one) => one.path)).toEqual(PATHS);
  expect(blocks(STEPS.size!).map((one) => [one.key, one.test])).toEqual([
    ["big", "x > 3"],
    ["otherwise", undefined],
  ]);
});

test("what is edited changes there and nowhere else", () => {
  for (const path of PATHS) {
    const next = replaced(STEPS, path, { note: "changed" });
    expect(flat(next).find((one) => one.path === path)?.step).toEqual({ note: "changed" });
    expect(flat(STEPS).map((one) => one.path)).toEqual(PATHS);
    expect(flat(removed(STEPS, path)).map((one) => one.path)).toEqual(
      PATHS.filter((one) => one !== path && !one.startsWith(`${path}.`)),
    );
  }
  expect(Object.keys(renamed(STEPS, "size", "fits"))).toEqual(["know", "fits", "both", "each", "done"]);
  expect(renamed(STEPS, "size", "done")).toEqual(STEPS);
  expect(Object.keys(moved(STEPS, "size", -1))).toEqual(["size", "know", "both", "each", "done"]);
  expect(moved(STEPS, "know", -1)).toEqual(STEPS);
});

test("a step is put in after another, or first in a block", () => {
  expect(Object.keys(inserted(STEPS, TOP, "know", "x", { note: "" }))).toEqual([
    "know",
    "x",
    "size",
    "both",
    "each",
    "done",
  ]);
  const lane = inserted(STEPS, { path: "both", key: "right" }, null, "x", { note: "" });
  expect(flat(lane).some((one) => one.path === "both.right.x")).toBe(true);
  const handler = inserted(STEPS, { path: "know", key: "catch.NotFound" }, "unknown", "x", { note: "" });
  expect(flat(handler).map((one) => one.path)).toContain("know.catch.NotFound.x");
  expect(freeName(STEPS, "a")).toBe("a_2");
});

test("a line of a map is put in and taken out", () => {
  const tree = withLine(withLine({}, "vessel.name", "x.name"), "toll", "3");
  expect(tree).toEqual({ vessel: { name: "x.name" }, toll: "3" });
  expect(withLine(tree, "vessel.name", "")).toEqual({ toll: "3" });
  expect(says(STEPS.each!)).toBe("list");
});
