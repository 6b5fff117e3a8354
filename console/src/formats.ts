/** Numbers and times as the console writes them: by the language of the page, so that another language brings its own forms. */

import { LANGUAGE, noun, t } from "./text";

const SPACE = "\u00a0";

const whole = new Intl.NumberFormat(LANGUAGE);
const tenths = new Intl.NumberFormat(LANGUAGE, { minimumFractionDigits: 1, maximumFractionDigits: 1 });
const day = new Intl.DateTimeFormat(LANGUAGE, { day: "numeric", month: "short" });
const time = new Intl.DateTimeFormat(LANGUAGE, {
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
  hourCycle: "h23",
});
const minute = new Intl.DateTimeFormat(LANGUAGE, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });

/** How long a step took: in microseconds below one millisecond. */
export function brief(micros: number): string {
  return micros < 1000 ? `${micros}\u00a0µs` : took(micros);
}

export function took(micros: number): string {
  const ms = micros / 1000;
  if (ms >= 1000) return `${tenths.format(ms / 1000)}${SPACE}s`;
  return `${ms < 10 ? tenths.format(ms) : Math.round(ms)}${SPACE}ms`;
}

export function bytes(count: number): string {
  return count < 1000 ? `${count}${SPACE}B` : `${tenths.format(count / 1000)}${SPACE}kB`;
}

export function grouped(count: number): string {
  return whole.format(count);
}

export function percent(part: number, of: number): string {
  return of ? `${tenths.format((part / of) * 100)}${SPACE}%` : `0${SPACE}%`;
}

export function clock(moment: Date): string {
  return time.format(moment);
}

/** Hours and minutes today, else the day. */
export function when(stamp: string | number): string {
  const moment = typeof stamp === "number" ? new Date(stamp * 1000) : new Date(stamp);
  return moment.toDateString() === new Date().toDateString() ? minute.format(moment) : day.format(moment);
}

/** A span in seconds: 12 s, 4 min, 3 h 20, 2 d. */
export function span(seconds: number): string {
  if (seconds < 120) return `${seconds < 10 ? Math.round(seconds * 10) / 10 : Math.round(seconds)}${SPACE}s`;
  if (seconds < 7200) return `${Math.round(seconds / 60)}${SPACE}min`;
  if (seconds < 172_800) {
    const minutes = String(Math.floor((seconds % 3600) / 60)).padStart(2, "0");
    return `${Math.floor(seconds / 3600)}${SPACE}h${SPACE}${minutes}`;
  }
  return `${Math.round(seconds / 86_400)}${SPACE}d`;
}

export function daysUntil(stamp: string): number {
  return Math.floor((new Date(stamp).getTime() - Date.now()) / 86_400_000);
}

/** How far away a stored moment is, for what runs out. */
export function until(stamp: string): string {
  const days = daysUntil(stamp);
  return days < 0 ? t("expired") : days === 0 ? t("today") : t("in {0}", plural(days, "day"));
}

export function plural(count: number, one: string, many = `${one}s`): string {
  return `${grouped(count)} ${noun(count, one, many)}`;
}
