/** The keys of each section, for the key line and the list behind the question mark. */
import { Dialog } from "radix-ui";
import { routeOf, SECTIONS_OF_KINDS } from "./kinds";

export interface Key {
  keys: string[];
  word: string;
}

export const KEYS: Key[] = [
  { keys: ["Ctrl", "K"], word: "find a place" },
  { keys: ["g", "o"], word: "overview" },
  { keys: ["g", "s"], word: "services" },
  ...SECTIONS_OF_KINDS.map((one) => ({ keys: ["g", one.key], word: one.word.toLowerCase() })),
  { keys: ["g", "t"], word: "test bench" },
  { keys: ["g", "r"], word: "releases" },
  { keys: ["g", "p"], word: "pools" },
  { keys: ["g", "c"], word: "calls" },
  { keys: ["g", "a"], word: "access" },
  { keys: ["?"], word: "all keys" },
];

const SECTION: Record<string, Key[]> = {
  "/": [
    { keys: ["J", "K"], word: "next, previous" },
    { keys: ["Enter"], word: "open service" },
    { keys: ["T"], word: "test" },
    { keys: ["/"], word: "narrow the list" },
  ],
  "/services": [
    { keys: ["J", "K"], word: "next, previous operation" },
    { keys: ["T"], word: "test" },
  ],
  "/tests": [{ keys: ["Ctrl", "Enter"], word: "send" }],
  "/releases": [
    { keys: ["J", "K"], word: "next, previous change" },
    { keys: ["Shift", "D"], word: "to deploy" },
    { keys: ["Shift", "R"], word: "to roll back" },
  ],
  "/definitions": [
    { keys: ["Ctrl", "S"], word: "save" },
    { keys: ["/"], word: "narrow the list" },
  ],
  "/pools": [{ keys: ["J", "K"], word: "next, previous pool" }],
  "/calls": [
    { keys: ["J", "K"], word: "next, previous" },
    { keys: ["Enter"], word: "open on the test bench" },
    { keys: ["/"], word: "search" },
  ],
};

export function keysOf(path: string, section: string): Key[] {
  const keys = routeOf(path)?.keys ?? SECTION[path] ?? SECTION[section] ?? [];
  return [...keys, { keys: ["?"], word: "all keys" }];
}

export function KeyHelp({
  open,
  onOpenChange,
  keys,
}: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
  keys: Key[];
}) {
  const shown = keys.filter((one, index) => keys.findIndex((other) => other.word === one.word) === index);
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/25" />
        <Dialog.Content
          aria-describedby={undefined}
          className="pop fixed top-24 left-1/2 z-40 w-80 -translate-x-1/2 p-4"
        >
          <Dialog.Title className="mb-2 text-[15px] font-semibold">Keys of this page</Dialog.Title>
          <dl className="grid grid-cols-[96px_1fr] gap-y-1.5">
            {shown.map((one) => (
              <div key={one.word} className="contents">
                <dt className="flex gap-1">
                  {one.keys.map((key) => (
                    <kbd key={key} className="kbd">
                      {key}
                    </kbd>
                  ))}
                </dt>
                <dd className="text-ink2">{one.word}</dd>
              </div>
            ))}
          </dl>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
