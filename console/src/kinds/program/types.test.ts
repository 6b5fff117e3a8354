import { expect, it } from "vitest";
import { dropped, EMPTY, newArea, replacings, sidesOf, withAnother, type AreaWork } from "./types";

const base64 = (text: string) => btoa(text);

it("reads what is replaced as it is written after REPLACING, and leaves what is only begun", () => {
  expect(replacings("==:TAG:===LOCK, OLD=NEW")).toEqual({ "==:TAG:==": "LOCK", OLD: "NEW" });
  expect(replacings("==A=B===C")).toEqual({ "==A=B==": "C" });
  expect(replacings(" X = Y ")).toEqual({ X: "Y" });
  expect(replacings("OLD, =NEW,")).toEqual({});
});

it("takes the copybook that copies others first, and later ones as members", () => {
  const first = dropped(EMPTY, { "a/BODY.cpy": base64("05 X PIC X."), "b/Whole.cpy": base64("01 W. COPY BODY.") });
  expect(first).toMatchObject({ name: "whole", text: "01 W. COPY BODY.", members: { BODY: "05 X PIC X." } });
  expect(dropped(first!, { "more.cpy": base64("x") })).toMatchObject({
    name: "whole",
    members: { BODY: "05 X PIC X.", MORE: "x" },
  });
  expect(dropped(EMPTY, {})).toBeUndefined();
});

it("makes a request and a reply of one area and another, and keeps names apart after that", () => {
  const two = withAnother([newArea("area", "both")]);
  expect(two.map((one) => [one.name, one.use])).toEqual([
    ["request", "in"],
    ["reply", "out"],
  ]);
  const named = withAnother([...two, newArea("area-4", "both")]);
  expect(named.map((one) => one.name)).toEqual(["request", "reply", "area-4", "area-5"]);
});

it("has nothing on the side that an area is not used for", () => {
  const area: AreaWork = { ...newArea("area", "in"), sides: { inputs: new Set(["A.B"]), outputs: new Set(["A.C"]) } };
  expect([...sidesOf(area).inputs]).toEqual(["A.B"]);
  expect([...sidesOf(area).outputs]).toEqual([]);
});
