/** Screens of a terminal host, recorded moves, and what a person pointed at. Positions count from 0, rows and columns from 1. */

export interface HostField {
  start: number; length: number; protected?: boolean; numeric?: boolean; hidden?: boolean; intensified?: boolean; modified?: boolean;
  colour?: string; highlight?: string; accepts?: string; monocase?: boolean;
}

export interface HostScreen { rows: number; columns: number; lines: string[]; fields: HostField[]; cursor: number; locked: boolean; alarm?: boolean; refused?: boolean }

export interface Seen { screen: HostScreen; known: string; proposed: string; connected: boolean }

export interface Opened extends Seen {
  type: "opened"; backend: string; engine: string; device: string; user: string; start: string; pooled: boolean; keys: string[]; screens: string[];
}

export interface Moved extends Seen {
  type: "moved"; number: number; before: HostScreen; was: string; typed: Record<string, string | null>; key: string; came: string; ms: number;
}

export interface Shot { before: HostScreen; known: string; typed: Record<string, string | null>; key: string; after: HostScreen; came: string }

export type Kind = "input" | "output" | "fixed";

export interface Look { type: string; dates: string; decimal: string; fraction: number | null }

export interface Place extends Look { screen: string; name: string; kind: Kind; row: number; column: number; length: number | null; required: boolean; description: string }

export interface Column extends Look { name: string; column: number; length: number }

export interface TextMark { row?: number; column?: number; text?: string }

export interface List {
  screen: string; name: string; first_row: number; last_row: number; columns: Column[]; press: string; goes_on: TextMark | null; ends: TextMark | null;
  until_same: boolean; most: number;
}

export interface Fault { screen: string; message: string; name: string }

export interface Area { row: number; column: number; lastRow: number; lastColumn: number }

export interface Guess extends Look { name: string; label: string }

export interface RegionGuess { columns: (Guess & { column: number; length: number })[]; press: string; goes_on: TextMark | null; ends: TextMark | null }

export interface FlowRow {
  flow: string; description: string; backend: string; engine: string; writes: boolean; moves: number; places: Place[]; lists: List[]; services: string[]; environments: string[];
  film: { environment: string; at: string; author: string; screens: number; moves: number } | null; checks: FilmCheck[];
}

export interface FilmCheck {
  flow: string; environment: string; at: string; passed: boolean; endpoint: string; screens: string[];
  moved: { screen: string; what: string; expected: string; found: string }[];
  stopped: { message: string; place?: string; expected?: string; found?: string; inner?: string } | null;
}

export interface Film {
  flow: string; environment: string; at: string; author: string; inputs: Record<string, unknown>; screens: HostScreen[];
  shots: { stage: string; before: number; known: string; typed: Record<string, string | null>; key: string; after: number; came: string }[];
}

export const spot = (screen: HostScreen, position: number) => ({ row: Math.floor(position / screen.columns) + 1, column: (position % screen.columns) + 1 });
export const positionOf = (screen: HostScreen, row: number, column: number) => (row - 1) * screen.columns + column - 1;
export const charactersOf = (screen: HostScreen) => screen.lines.map((line) => line.padEnd(screen.columns)).join("");
