/** Screens of a terminal host, recorded moves, and what a person pointed at. Positions count from 0, rows and columns from 1. */

import type * as Api from "../../../generated/schema";

export type HostField = Api.ScreenField;

export type HostScreen = Api.TerminalScreen;

export interface Seen {
  screen: HostScreen;
  known: string;
  proposed: string;
  connected: boolean;
  /** The silence after which this host has written all of a screen, in seconds, as far as it was heard. */
  quiet: number | null;
}

export interface Opened extends Seen {
  type: "opened";
  backend: string;
  engine: string;
  device: string;
  user: string;
  start: string;
  pooled: boolean;
  keys: string[];
  screens: string[];
}

/** What became of a host that nobody had defined. */
export interface Learned {
  type: "learned";
  backend: string;
  environment: string;
  credential: string;
  start: string;
  screens: string[];
  notes: string[];
}

export interface Moved extends Seen {
  type: "moved";
  number: number;
  before: HostScreen;
  was: string;
  typed: Record<string, string | null>;
  key: string;
  came: string;
  ms: number;
}

export interface Shot {
  before: HostScreen;
  known: string;
  typed: Record<string, string | null>;
  key: string;
  after: HostScreen;
  came: string;
}

export type Kind = "input" | "output" | "fixed";

export interface Look {
  type: string;
  dates: string;
  decimal: string;
  fraction: number | null;
}

export interface Place extends Look {
  screen: string;
  name: string;
  kind: Kind;
  row: number;
  column: number;
  length: number | null;
  required: boolean;
  description: string;
}

export interface Column extends Look {
  name: string;
  column: number;
  length: number;
  /** On which of the lines of a row it stands, from 1. */
  line: number;
}

export type TextMark = Api.ScreenMark;

export interface List {
  screen: string;
  name: string;
  first_row: number;
  last_row: number;
  columns: Column[];
  press: string;
  goes_on: TextMark | null;
  ends: TextMark | null;
  until_same: boolean;
  most: number;
  /** Of the screen, for one row. */
  lines: number;
}

export interface Fault {
  screen: string;
  message: string;
  name: string;
}

/** What is drawn of a place and of a list, whether it is being recorded or was stored. */
export type PlaceBox = Pick<Place, "screen" | "name" | "kind" | "row" | "column" | "length">;
export type ListBox = Pick<List, "screen" | "name" | "first_row" | "last_row" | "goes_on" | "ends"> & {
  columns: Pick<Column, "name" | "column" | "length" | "type">[];
};

export interface Area {
  row: number;
  column: number;
  lastRow: number;
  lastColumn: number;
}

export interface Guess extends Look {
  name: string;
  label: string;
}

export interface RegionGuess {
  columns: (Guess & { column: number; length: number })[];
  press: string;
  goes_on: TextMark | null;
  ends: TextMark | null;
}

export type FlowRow = Api.Flow;

export type FilmCheck = Api.FilmCheck;

export type Film = Api.Film;

export const spot = (screen: HostScreen, position: number) => ({
  row: Math.floor(position / screen.columns) + 1,
  column: (position % screen.columns) + 1,
});
export const positionOf = (screen: HostScreen, row: number, column: number) => (row - 1) * screen.columns + column - 1;
export const charactersOf = (screen: HostScreen) => screen.lines.map((line) => line.padEnd(screen.columns)).join("");
