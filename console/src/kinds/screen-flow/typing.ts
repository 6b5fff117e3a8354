/** What is typed at a live terminal before a key tells the host. Pure: state in, state out. */
import { charactersOf, type HostField, type HostScreen } from "./types";

export interface Typed {
  cursor: number;
  texts: Record<number, string>;
}

export const fresh = (screen: HostScreen): Typed => ({ cursor: screen.cursor, texts: {} });

export const inputs = (screen: HostScreen) => screen.fields.filter((one) => !one.protected);

export function fieldAt(screen: HostScreen, position: number): HostField | undefined {
  return inputs(screen).find((one) => one.start <= position && position < one.start + one.length);
}

export function content(screen: HostScreen, typed: Typed, field: HostField): string {
  const text = typed.texts[field.start];
  return (text ?? charactersOf(screen).slice(field.start, field.start + field.length))
    .padEnd(field.length)
    .slice(0, field.length);
}

export function type(screen: HostScreen, typed: Typed, letter: string): Typed | undefined {
  const field = fieldAt(screen, typed.cursor);
  if (!field || (field.numeric && !/[0-9.,\-+ ]/.test(letter))) return undefined;
  const at = typed.cursor - field.start;
  const text = content(screen, typed, field);
  const next = {
    cursor: typed.cursor + 1,
    texts: {
      ...typed.texts,
      [field.start]: text.slice(0, at) + (field.monocase ? letter.toUpperCase() : letter) + text.slice(at + 1),
    },
  };
  return next.cursor >= field.start + field.length ? tab(screen, next, false) : next;
}

export function erase(screen: HostScreen, typed: Typed, back: boolean): Typed {
  const cursor = back ? typed.cursor - 1 : typed.cursor;
  const field = fieldAt(screen, cursor);
  if (!field) return typed;
  const at = cursor - field.start;
  const text = content(screen, typed, field);
  return { cursor, texts: { ...typed.texts, [field.start]: text.slice(0, at) + text.slice(at + 1) + " " } };
}

export function tab(screen: HostScreen, typed: Typed, back: boolean): Typed {
  const starts = inputs(screen)
    .filter((one) => one.length > 0)
    .map((one) => one.start)
    .sort((one, other) => one - other);
  const first = starts[0],
    last = starts[starts.length - 1];
  if (first === undefined || last === undefined) return typed;
  const to = back
    ? ([...starts].reverse().find((one) => one < typed.cursor) ?? last)
    : (starts.find((one) => one > typed.cursor) ?? first);
  return { ...typed, cursor: to };
}

export function step(screen: HostScreen, typed: Typed, by: number): Typed {
  const size = screen.rows * screen.columns;
  return { ...typed, cursor: (typed.cursor + by + size) % size };
}

/** What goes out with a key: typed fields without blanks at their ends. */
export function fieldsOf(typed: Typed): Record<string, string> {
  return Object.fromEntries(Object.entries(typed.texts).map(([start, text]) => [start, text.trimEnd()]));
}

/** The screen with what was typed on it, for guesses and pictures. Secrets stay dots. */
export function overlaid(screen: HostScreen, texts: Record<string, string | null>): HostScreen {
  let all = charactersOf(screen);
  for (const [start, text] of Object.entries(texts)) {
    const field = screen.fields.find((one) => one.start === Number(start));
    if (!field) continue;
    const shown =
      text === null || field.hidden ? "•".repeat(Math.min(field.length, (text ?? "      ").trimEnd().length)) : text;
    all =
      all.slice(0, field.start) +
      shown.padEnd(field.length).slice(0, field.length) +
      all.slice(field.start + field.length);
  }
  return {
    ...screen,
    lines: screen.lines.map((_, row) => all.slice(row * screen.columns, (row + 1) * screen.columns)),
  };
}
