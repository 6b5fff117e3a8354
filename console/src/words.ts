/** Numbers and times as the console writes them. */

const SPACE = "\u00a0";

export function took(micros: number): string {
  const ms = micros / 1000;
  if (ms >= 1000) return `${(ms / 1000).toFixed(1)}${SPACE}s`;
  return `${ms < 10 ? ms.toFixed(1) : Math.round(ms)}${SPACE}ms`;
}

export function bytes(count: number): string {
  return count < 1000 ? `${count}${SPACE}B` : `${(count / 1000).toFixed(1)}${SPACE}kB`;
}

export function grouped(count: number): string {
  return count.toLocaleString("en-GB");
}

export function percent(part: number, whole: number): string {
  return whole ? `${((part / whole) * 100).toFixed(1)}${SPACE}%` : `0${SPACE}%`;
}

const two = (value: number) => String(value).padStart(2, "0");

export function clock(moment: Date): string {
  return `${two(moment.getHours())}:${two(moment.getMinutes())}:${two(moment.getSeconds())}`;
}

const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/** Hours and minutes today, else the day. */
export function when(stamp: string | number): string {
  const moment = typeof stamp === "number" ? new Date(stamp * 1000) : new Date(stamp);
  if (moment.toDateString() === new Date().toDateString()) return clock(moment).slice(0, 5);
  return `${moment.getDate()} ${MONTHS[moment.getMonth()]}`;
}

/** A span in seconds: 12 s, 4 min, 3 h 20, 2 d. */
export function span(seconds: number): string {
  if (seconds < 120) return `${seconds < 10 ? Math.round(seconds * 10) / 10 : Math.round(seconds)}${SPACE}s`;
  if (seconds < 7200) return `${Math.round(seconds / 60)}${SPACE}min`;
  if (seconds < 172_800) return `${Math.floor(seconds / 3600)}${SPACE}h${SPACE}${two(Math.floor((seconds % 3600) / 60))}`;
  return `${Math.round(seconds / 86_400)}${SPACE}d`;
}

export function daysUntil(stamp: string): number {
  return Math.floor((new Date(stamp).getTime() - Date.now()) / 86_400_000);
}

/** How far away a stored moment is, for what runs out. */
export function until(stamp: string): string {
  const days = daysUntil(stamp);
  return days < 0 ? "expired" : days === 0 ? "today" : `in ${plural(days, "day")}`;
}

export function plural(count: number, one: string, many = `${one}s`): string {
  return `${grouped(count)} ${count === 1 ? one : many}`;
}
