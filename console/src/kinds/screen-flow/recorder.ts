/** What a recording is while it is made: moves, names of screens, and what was pointed at. Pure reducers. */
import {
  charactersOf,
  positionOf,
  type Area,
  type Fault,
  type Guess,
  type HostScreen,
  type Kind,
  type List,
  type Moved,
  type Place,
  type RegionGuess,
  type Shot,
} from "./types";

export interface Recording {
  shots: Shot[];
  names: Record<string, string>;
  places: Place[];
  lists: List[];
  faults: Fault[];
  name: string;
  description: string;
  service: string;
  operation: string;
  roles: string[];
  writes: boolean;
  /** Where a screen's messages stand: row, column, length. */
  messages: Record<string, [number, number, number]>;
  /** The silence after which the host has written all of a screen, in seconds; null where nobody heard it. */
  quiet: number | null;
}

export const empty: Recording = {
  shots: [],
  names: {},
  places: [],
  lists: [],
  faults: [],
  name: "",
  description: "",
  service: "",
  operation: "",
  roles: [],
  writes: true,
  messages: {},
  quiet: null,
};

/** The name of a screen as the person wants it. */
export const named = (recording: Recording, raw: string) => recording.names[raw] ?? raw;

export function withMove(recording: Recording, moved: Moved): Recording {
  return {
    ...recording,
    quiet: moved.quiet === null ? recording.quiet : Math.max(recording.quiet ?? 0, moved.quiet),
    shots: [
      ...recording.shots,
      {
        before: moved.before,
        known: moved.was,
        typed: moved.typed,
        key: moved.key,
        after: moved.screen,
        came: moved.came,
      },
    ],
  };
}

/** A message of the host is a declared fault of the flow; where it stands, the screen's messages are looked for. */
export function withFault(recording: Recording, screen: string, area: Area, message: string): Recording {
  const taken = recording.faults.map((one) => one.name);
  const name = free(taken, faultName(message));
  return {
    ...recording,
    faults: [
      ...recording.faults.filter((one) => one.screen !== screen || one.message !== message),
      { screen, message, name },
    ],
    messages: {
      ...recording.messages,
      [screen]: [area.row, area.column, Math.max(area.lastColumn - area.column + 1, 40)],
    },
  };
}

/** A name of what a message says: its first words. */
export function faultName(message: string): string {
  const words = (message.match(/[A-Za-z]+/g) ?? []).slice(0, 4);
  return words.map((one) => one.charAt(0).toUpperCase() + one.slice(1).toLowerCase()).join("") || "Refused";
}

/** Another key, or other texts, of a move. */
export function withChangedMove(
  recording: Recording,
  index: number,
  change: Partial<Pick<Shot, "key" | "typed">>,
): Recording {
  return { ...recording, shots: recording.shots.map((one, at) => (at === index ? { ...one, ...change } : one)) };
}

export function withoutMove(recording: Recording, index: number): Recording {
  return { ...recording, shots: recording.shots.filter((_, at) => at !== index) };
}

/** Another name for a screen, everywhere that it is said. */
export function renamed(recording: Recording, raw: string, name: string): Recording {
  const old = named(recording, raw);
  const change = <T extends { screen: string }>(one: T): T => (one.screen === old ? { ...one, screen: name } : one);
  return {
    ...recording,
    names: { ...recording.names, [raw]: name },
    places: recording.places.map(change),
    lists: recording.lists.map(change),
    faults: recording.faults.map(change),
    messages: Object.fromEntries(
      Object.entries(recording.messages).map(([screen, at]) => [screen === old ? name : screen, at]),
    ),
  };
}

/** Every screen that was met, by its raw name, in the order of meeting. */
export function met(recording: Recording): { raw: string; screen: HostScreen; visits: number }[] {
  const found: { raw: string; screen: HostScreen; visits: number }[] = [];
  const visit = (raw: string, screen: HostScreen) => {
    const known = found.find((one) => one.raw === raw);
    if (known) known.visits += 1;
    else found.push({ raw, screen, visits: 1 });
  };
  recording.shots.forEach((one, index) => {
    if (index === 0) visit(one.known, one.before);
    visit(one.came, one.after);
  });
  return found;
}

function free(taken: string[], name: string): string {
  let number = 2,
    found = name;
  while (taken.includes(found)) found = `${name}${number++}`;
  return found;
}

export function placeFrom(
  recording: Recording,
  screen: string,
  kind: Kind,
  row: number,
  column: number,
  length: number | null,
  guess: Guess,
): Place {
  const taken = recording.places.filter((one) => one.kind === kind).map((one) => one.name);
  return {
    screen,
    name: free(taken, guess.name),
    kind,
    row,
    column,
    length,
    type: guess.type,
    dates: guess.dates,
    decimal: guess.decimal,
    fraction: guess.fraction,
    required: true,
    description: "",
  };
}

export function listFrom(recording: Recording, screen: string, area: Area, guess: RegionGuess): List {
  const columns = guess.columns.map(({ name, column, length, type, dates, decimal, fraction }) => ({
    name,
    column,
    length,
    type,
    dates,
    decimal,
    fraction,
    line: 1,
  }));
  return {
    screen,
    name: free(
      recording.lists.map((one) => one.name),
      "row",
    ),
    first_row: area.row,
    last_row: area.lastRow,
    columns,
    press: guess.press,
    goes_on: guess.goes_on,
    ends: guess.ends,
    until_same: Boolean(guess.press) && !guess.goes_on && !guess.ends,
    most: 1000,
    lines: 1,
  };
}

export const samePlace = (one: Place, other: Place) =>
  one.screen === other.screen && one.row === other.row && one.column === other.column;

/** What a click means: the input field there, or the run of text around it. */
export function proposed(
  screen: HostScreen,
  row: number,
  column: number,
): { area: Area; isInput: boolean } | undefined {
  const at = positionOf(screen, row, column);
  const field = screen.fields.find((one) => one.start <= at && at < one.start + one.length);
  if (field && !field.protected)
    return {
      area: {
        row,
        column: (field.start % screen.columns) + 1,
        lastRow: row,
        lastColumn: Math.min(screen.columns, (field.start % screen.columns) + field.length),
      },
      isInput: true,
    };
  const line = screen.lines[row - 1]?.padEnd(screen.columns) ?? "";
  if (line[column - 1] === undefined || line[column - 1] === " ") return undefined;
  // Fields never share a text, however near they stand.
  const inRow = field && Math.floor(field.start / screen.columns) === row - 1;
  const start = inRow ? (field.start % screen.columns) + 1 : 1,
    end = inRow ? Math.min(screen.columns, start + field.length - 1) : screen.columns;
  const blank = (at: number) => at < start || at > end || line[at - 1] === " ";
  let first = column,
    last = column;
  while (first > start && !(blank(first - 1) && blank(first - 2))) first--;
  while (last < end && !(blank(last + 1) && blank(last + 2))) last++;
  // A text that is alone in its field may be longer another time: the whole field is meant.
  if (inRow && line.slice(start - 1, end).trim() === line.slice(first - 1, last).trim())
    return { area: { row, column: start, lastRow: row, lastColumn: end }, isInput: false };
  return { area: { row, column: first, lastRow: row, lastColumn: last }, isInput: false };
}

export function textIn(screen: HostScreen, row: number, column: number, length: number | null): string {
  const start = positionOf(screen, row, column);
  return charactersOf(screen)
    .slice(start, start + (length ?? screen.columns - column + 1))
    .trim();
}

/** What the service is sent when the recording is finished. */
export function body(recording: Recording, backend: string, environment: string, save: boolean) {
  const shots = recording.shots.map((one) => ({
    ...one,
    known: named(recording, one.known),
    came: named(recording, one.came),
  }));
  const { name, places, lists, faults, messages, description, service, operation, roles, writes, quiet } = recording;
  return {
    name,
    backend,
    environment,
    shots,
    places,
    lists,
    faults,
    messages,
    description,
    service,
    operation,
    roles,
    writes,
    quiet,
    save,
  };
}
