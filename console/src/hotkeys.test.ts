import { describe, expect, it, vi } from "vitest";
import { meant, pressed, steps } from "./hotkeys";

const plain = { ctrlKey: false, metaKey: false, altKey: false, shiftKey: false };
const nothing = () => undefined;

describe("what was pressed", () => {
  it("is named as the tables write it", () => {
    expect(pressed({ ...plain, key: "j" })).toBe("j");
    expect(pressed({ ...plain, key: "D", shiftKey: true })).toBe("Shift+D");
    expect(pressed({ ...plain, key: "?", shiftKey: true })).toBe("?");
    expect(pressed({ ...plain, key: "k", metaKey: true })).toBe("Ctrl+k");
    expect(pressed({ ...plain, key: "i", altKey: true })).toBe("");
  });
});

describe("two keys in a row", () => {
  const shell = { "g t": nothing, "?": nothing };
  const page = { t: nothing };
  it("mean the pair, not the second key alone", () => {
    const first = meant([page, shell], "g", undefined, 1000);
    expect(first.name).toBe("");
    expect(meant([page, shell], "t", first.begun, 1900).name).toBe("g t");
  });
  it("are two keys when too much time passed between", () => {
    expect(meant([page, shell], "t", { key: "g", at: 1000 }, 2300).name).toBe("t");
  });
  it("are nothing when no table knows them", () => {
    expect(meant([page, shell], "x", { key: "g", at: 1000 }, 1100)).toEqual({ name: "", begun: undefined });
  });
});

describe("steps through a list", () => {
  const items = ["a", "b", "c"];
  it("go on, go back and hold at the ends", () => {
    const choose = vi.fn();
    const event = {} as KeyboardEvent;
    steps(items, "b", choose)["j"]?.(event);
    steps(items, "b", choose)["k"]?.(event);
    steps(items, "c", choose)["j"]?.(event);
    steps(items, undefined, choose)["j"]?.(event);
    steps([] as string[], undefined, choose)["k"]?.(event);
    expect(choose.mock.calls).toEqual([
      ["c", 2],
      ["a", 0],
      ["a", 0],
    ]);
  });
});
