/** The keys that a host has, as a bar, and which of them a key of the person's keyboard means. Pure: told by what the host accepts. */
export interface Keyboard {
  bar: readonly string[];
  prefix: string;
  pageUp: string;
  pageDown: string;
}

const numbered = (prefix: string) => Array.from({ length: 12 }, (_, index) => `${prefix}${index + 1}`);

// A host of block screens either numbers program function keys PF1 to PF24 and has Clear and PA keys, or has F1 to F24 with roll keys.
const WITH_PF: Keyboard = {
  bar: ["Enter", ...numbered("PF"), "Clear", "PA1"],
  prefix: "PF",
  pageUp: "PF7",
  pageDown: "PF8",
};
const WITH_F: Keyboard = {
  bar: ["Enter", ...numbered("F"), "PageUp", "PageDown", "Help"],
  prefix: "F",
  pageUp: "PageUp",
  pageDown: "PageDown",
};

export function keyboardOf(accepted: readonly string[]): Keyboard {
  return accepted.length === 0 || accepted.includes("PF1") ? WITH_PF : WITH_F;
}

/** The host's key for Enter, a function key (with Shift, the one 12 further) or a page key; undefined for one that is typed. */
export function hostKey(keyboard: Keyboard, event: { key: string; shiftKey: boolean }): string | undefined {
  const numberOf = /^F(\d+)$/.exec(event.key)?.[1];
  if (numberOf) return `${keyboard.prefix}${Number(numberOf) + (event.shiftKey ? 12 : 0)}`;
  if (event.key === "Enter") return "Enter";
  if (event.key === "PageUp") return keyboard.pageUp;
  if (event.key === "PageDown") return keyboard.pageDown;
  return undefined;
}
