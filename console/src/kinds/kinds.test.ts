import { expect, it } from "vitest";
import { kindOf, kindsOf, routeOf, spotsOf } from ".";

const gauges = {
  kind: "tide-gauge",
  title: "tide gauge",
  plural: "tide gauges",
  words: "heights",
  page: "/tide-gauges",
  runs: "",
};

it("shows a kind that has no folder here by what the service says of it", () => {
  expect(kindOf("tide-gauge")).toMatchObject({ word: "tide gauge", gives: "tide gauge", comparable: false });
  expect(kindOf("tide-gauge").link("lock9")).toBeUndefined();
  expect(spotsOf([gauges])).toContainEqual({ word: "Tide gauges", path: "/tide-gauges" });
  expect(spotsOf([{ ...gauges, page: "" }])).toEqual(spotsOf([]));
});

it("names each kind of a service once", () => {
  const kinds = kindsOf([{ kind: "object" }, { kind: "screen-flow" }, { kind: "object" }]);
  expect(kinds.map((one) => one.word)).toEqual(["business object", "screen flow"]);
});

it("gives a path to the nearest route of a kind", () => {
  expect(routeOf("/screens/record")?.path).toBe("/screens/record");
  expect(routeOf("/screens")?.path).toBe("/screens");
  expect(routeOf("/definitions")).toBeUndefined();
});
