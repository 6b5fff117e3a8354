import { describe, expect, it } from "vitest";
import { hostKey, keyboardOf } from "./keyboard";
import { body, empty, listFrom, met, placeFrom, proposed, renamed, textIn, withMove, withoutMove } from "./recorder";
import { positionOf, type Guess, type HostField, type HostScreen, type Moved } from "./types";
import { content, erase, fieldAt, fresh, tab, type } from "./typing";

const field = (row: number, column: number, length: number, more: Partial<HostField> = {}): HostField => ({
  start: positionOf(screen([]), row, column),
  length,
  protected: false,
  ...more,
});

function screen(lines: string[], fields: HostField[] = []): HostScreen {
  return {
    rows: 24,
    columns: 80,
    cursor: 0,
    lines: [...lines, ...Array<string>(24 - lines.length).fill("")],
    fields,
  } as HostScreen;
}

const guess: Guess = { name: "berth", label: "BERTH", type: "text", dates: "", decimal: "", fraction: null };
const menu = screen(["MENU"]);
const list = screen(["BERTHS"]);
const moved = (was: string, known: string, before = menu, after = list): Moved =>
  ({
    type: "moved",
    number: 1,
    before,
    was,
    typed: {},
    key: "Enter",
    came: known,
    known,
    screen: after,
    quiet: 0.4,
  }) as Moved;

describe("a recording", () => {
  const walked = [moved("s1", "s2"), moved("s2", "s1", list, menu)].reduce(withMove, empty);

  it("holds the moves in order and what was met on the way", () => {
    expect(walked.shots.map((one) => [one.known, one.key, one.came])).toEqual([
      ["s1", "Enter", "s2"],
      ["s2", "Enter", "s1"],
    ]);
    expect(met(walked).map((one) => [one.raw, one.visits])).toEqual([
      ["s1", 2],
      ["s2", 1],
    ]);
    expect(walked.quiet).toBe(0.4);
    expect(withoutMove(walked, 0).shots).toHaveLength(1);
    expect(empty.shots).toHaveLength(0);
  });

  it("gives a screen another name everywhere that it is said, and sends the names", () => {
    const place = placeFrom(walked, "s2", "output", 3, 5, 10, guess);
    const full = renamed(
      { ...walked, places: [place], faults: [{ screen: "s2", message: "m", name: "n" }] },
      "s2",
      "Berths",
    );
    expect([full.places[0]?.screen, full.faults[0]?.screen]).toEqual(["Berths", "Berths"]);
    const sent = body(full, "host", "test", false);
    expect(sent.shots.map((one) => [one.known, one.came])).toEqual([
      ["s1", "Berths"],
      ["Berths", "s1"],
    ]);
    const again = renamed(full, "s2", "BerthList");
    expect(again.places[0]?.screen).toBe("BerthList");
  });

  it("never gives two places of a kind the same name", () => {
    const first = placeFrom(empty, "s1", "input", 1, 1, 4, guess);
    const second = placeFrom({ ...empty, places: [first] }, "s1", "input", 2, 1, 4, guess);
    const output = placeFrom({ ...empty, places: [first] }, "s1", "output", 2, 1, 4, guess);
    expect([first.name, second.name, output.name]).toEqual(["berth", "berth2", "berth"]);
  });

  it("ends a list that has no other end at a screen that comes twice", () => {
    const area = { row: 5, column: 1, lastRow: 20, lastColumn: 80 };
    const columns = [{ ...guess, column: 2, length: 8 }];
    const pressed = listFrom(empty, "s1", area, { columns, press: "PF8", goes_on: null, ends: null });
    const marked = listFrom(empty, "s1", area, { columns, press: "PF8", goes_on: { text: "MORE" }, ends: null });
    expect([pressed.until_same, marked.until_same]).toEqual([true, false]);
    expect(pressed.columns[0]).not.toHaveProperty("label");
  });
});

describe("what a click means", () => {
  it("is the input field there, or the text around it, or nothing", () => {
    const seen = screen(["BERTH  N 12   QUAY NORTH"], [field(1, 8, 4)]);
    expect(proposed(seen, 1, 9)).toMatchObject({ isInput: true, area: { column: 8, lastColumn: 11 } });
    expect(proposed(seen, 1, 16)).toMatchObject({ isInput: false, area: { column: 15, lastColumn: 24 } });
    expect(proposed(seen, 1, 7)).toBeUndefined();
    expect(textIn(seen, 1, 15, null)).toBe("QUAY NORTH");
  });
});

describe("typing", () => {
  const seen = screen(
    ["       "],
    [field(1, 2, 3), field(2, 2, 3, { numeric: true }), field(3, 2, 4, { monocase: true })],
  );
  const write = (text: string, from = { ...fresh(seen), cursor: 1 }) =>
    [...text].reduce((typed, letter) => type(seen, typed, letter) ?? typed, from);

  it("fills a field and goes on in the next", () => {
    const typed = write("abc12");
    const texts = seen.fields.map((one) => content(seen, typed, one));
    expect(texts).toEqual(["abc", "12 ", "    "]);
    expect(fieldAt(seen, typed.cursor)).toBe(seen.fields[1]);
  });
  it("refuses letters where only numbers may stand, and protected places", () => {
    expect(type(seen, { ...fresh(seen), cursor: positionOf(seen, 2, 2) }, "x")).toBeUndefined();
    expect(type(seen, { ...fresh(seen), cursor: 0 }, "x")).toBeUndefined();
  });
  it("writes in capitals where the host has no others", () => {
    const typed = write("ab", { ...fresh(seen), cursor: positionOf(seen, 3, 2) });
    expect(content(seen, typed, seen.fields[2] as HostField)).toBe("AB  ");
  });
  it("takes back, and tabs round in both directions", () => {
    const typed = erase(seen, write("ab"), true);
    expect(content(seen, typed, seen.fields[0] as HostField)).toBe("a  ");
    expect(tab(seen, { ...typed, cursor: 1 }, true).cursor).toBe(positionOf(seen, 3, 2));
    expect(tab(seen, { ...typed, cursor: positionOf(seen, 3, 2) }, false).cursor).toBe(1);
  });
});

describe("the keys of a host", () => {
  it("are told by what it accepts", () => {
    const pf = keyboardOf(["Clear", "Enter", "PF1", "PF8"]);
    const f = keyboardOf(["Enter", "F1", "PageDown"]);
    const press = (key: string, shiftKey = false) => [hostKey(pf, { key, shiftKey }), hostKey(f, { key, shiftKey })];
    expect([press("F3"), press("F1", true), press("PageDown"), press("x")]).toEqual([
      ["PF3", "F3"],
      ["PF13", "F13"],
      ["PF8", "PageDown"],
      [undefined, undefined],
    ]);
  });
});
