/** What a kind of source brings to the console. One folder a kind; pages ask `index.ts` and never for a kind by name. */
import type { LucideIcon } from "lucide-react";
import type { ComponentType } from "react";
import type { Key } from "../key-help";

export interface Section {
  path: string;
  word: string;
  icon: LucideIcon;
  /** After g. */
  key: string;
}

export interface KindRoute {
  path: string;
  page: ComponentType;
  /** The section of the rail that is lit, and the last part of the way at the top: a fixed word, or the value of a name in the address. */
  section: string;
  place: { word: string } | { value: string };
  keys: Key[];
  /** Its tab among the ways into definitions. */
  way?: string;
}

export interface Spot {
  word: string;
  path: string;
}

/** How something is made, in the list of all that can be. */
export interface Way extends Spot {
  /** What it is, in a few words. */
  words: string;
}

/** What else lies in a database beside its tables: a list among them, and a view of the one that is chosen. */
export interface InDatabase {
  /** The name in the address that holds the one that is chosen. */
  name: string;
  List: ComponentType<{ base: string; narrow: string; chosen: string; onChoose: (one: string) => void }>;
  View: ComponentType<{ base: string; chosen: string; environment: string; onMade: () => void }>;
}

export interface SourceKind {
  /** Its word in definitions, as the API tells it. */
  kind: string;
  icon: LucideIcon;
  /** What a person calls one. */
  word: string;
  /** What gives the values of an answer. */
  gives: string;
  /** Whether an answer can be put beside the rows that are stored. */
  comparable: boolean;
  /** Whether another service answers, which can be asked itself. */
  outside?: boolean;
  inDatabase?: InDatabase;
  /** A section of its own in the rail. */
  section?: Section;
  routes: KindRoute[];
  /** For the finder. */
  spots: Spot[];
  /** How one is made. */
  makes: Way[];
  /** Where the source of that name is seen or edited. */
  link: (name: string) => Spot | undefined;
}
