import { expect, it } from "vitest";
import { changed } from "./address";
import { within } from "./lens";

it("changes the named values and keeps the others, above all the view", () => {
  const old = new URLSearchParams("view=test&service=Vessels&operation=Get");
  expect(changed(old, { service: "Berths", operation: null }).toString()).toBe("view=test&service=Berths");
  expect(old.get("service")).toBe("Vessels");
});

it("carries the view to another page, whatever its address holds", () => {
  expect(within("/tests?service=A", "pre prod")).toBe("/tests?service=A&view=pre%20prod");
  expect(within("/pools", "test")).toBe("/pools?view=test");
  expect(within("/pools", "both")).toBe("/pools");
});
