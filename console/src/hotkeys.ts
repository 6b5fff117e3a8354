/**
 * Keys of a page: tables of what each does, read by one listener. A key is named as it is pressed: `j`, `?`, `Enter`, `Ctrl+k`,
 * `Shift+D`, and two in a row `g o`. What is typed in a field, a dialog or a menu is never taken for one, except with Ctrl.
 */
import { useEffect, useRef, type RefObject } from "react";

export type Keys = Record<string, (event: KeyboardEvent) => void>;

/** The first of two keys, and when it came, in milliseconds. */
export interface Begun {
  key: string;
  at: number;
}

const PATIENCE = 1200;

/** The name of what was pressed; empty for what belongs to the browser or to a reader of the screen. */
export function pressed(event: Pick<KeyboardEvent, "key" | "ctrlKey" | "metaKey" | "altKey" | "shiftKey">): string {
  if (event.altKey) return "";
  if (event.ctrlKey || event.metaKey) return `Ctrl+${event.key}`;
  return event.shiftKey && /^[A-Z]$/.test(event.key) ? `Shift+${event.key}` : event.key;
}

/** Which key of the tables is meant, and whether this one begins a pair. A pair that was begun comes before a key of its own. */
export function meant(tables: readonly Keys[], key: string, begun: Begun | undefined, now: number) {
  const pair = begun && now - begun.at < PATIENCE ? `${begun.key} ${key}` : "";
  const has = (name: string) => name !== "" && tables.some((one) => name in one);
  const name = has(pair) ? pair : has(key) ? key : "";
  const begins = name === "" && tables.some((one) => Object.keys(one).some((other) => other.startsWith(`${key} `)));
  return { name, begun: begins ? { key, at: now } : undefined };
}

const TAKEN = "input,textarea,select,[role=dialog],[role=menu],[role=listbox]";

/** Whether the element that has the focus needs the key itself: a field what is typed, a link or a button Enter. */
function isOwn(event: KeyboardEvent): boolean {
  const target = event.target as HTMLElement;
  return target.closest(TAKEN) !== null || (event.key === "Enter" && target.closest("a,button") !== null);
}

// In the order of mounting. Of two tables with the same key the newer one has it: a page comes after the shell, a dialog after both.
const mounted: RefObject<Keys>[] = [];
let begun: Begun | undefined;

function onKey(event: KeyboardEvent) {
  const key = pressed(event);
  if (!key || (!key.startsWith("Ctrl+") && isOwn(event))) return;
  const tables = mounted.map((one) => one.current).reverse();
  const found = meant(tables, key, begun, Date.now());
  begun = found.begun;
  tables.find((one) => found.name in one)?.[found.name]?.(event);
}

export function useKeys(keys: Keys) {
  const now = useRef(keys);
  useEffect(() => {
    now.current = keys;
  });
  useEffect(() => {
    if (!mounted.length) window.addEventListener("keydown", onKey);
    mounted.push(now);
    return () => {
      mounted.splice(mounted.indexOf(now), 1);
      if (!mounted.length) window.removeEventListener("keydown", onKey);
    };
  }, []);
}

/** J and K through a list; the ends hold. */
export function steps<T>(items: readonly T[], at: T | undefined, choose: (item: T, index: number) => void): Keys {
  const move = (by: number) => () => {
    const index = at === undefined ? -1 : items.indexOf(at);
    const to = Math.min(items.length - 1, Math.max(0, index + by));
    const item = items[to];
    if (item !== undefined && to !== index) choose(item, to);
  };
  return { j: move(1), k: move(-1) };
}
