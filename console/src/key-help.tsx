/** The keys of each section, for the key line and the list behind the question mark. */
import { Dialog } from "radix-ui";
import { routeOf, SECTIONS_OF_KINDS } from "./kinds";
import { t } from "./text";

export interface Key {
  keys: string[];
  word: string;
}

export const KEYS: Key[] = [
  { keys: ["Ctrl", "K"], word: t("find a place") },
  { keys: ["g", "o"], word: t("overview") },
  { keys: ["g", "s"], word: t("services") },
  ...SECTIONS_OF_KINDS.map((one) => ({ keys: ["g", one.key], word: one.word.toLowerCase() })),
  { keys: ["g", "t"], word: t("test bench") },
  { keys: ["g", "r"], word: t("releases") },
  { keys: ["g", "p"], word: t("pools") },
  { keys: ["g", "c"], word: t("calls") },
  { keys: ["g", "j"], word: t("jobs") },
  { keys: ["g", "a"], word: t("access") },
  { keys: ["?"], word: t("all keys") },
];

const SECTION: Record<string, Key[]> = {
  "/": [
    { keys: ["J", "K"], word: t("next, previous") },
    { keys: ["Enter"], word: t("open service") },
    { keys: ["T"], word: t("test") },
    { keys: ["/"], word: t("narrow the list") },
  ],
  "/services": [{ keys: ["/"], word: t("narrow the list") }],
  "/services/": [
    { keys: ["J", "K"], word: t("next, previous operation") },
    { keys: ["T"], word: t("test") },
  ],
  "/tests/suites": [
    { keys: ["J", "K"], word: t("next, previous case") },
    { keys: ["Ctrl", "S"], word: t("save the text") },
  ],
  "/start": [],
  "/tests/contract": [],
  "/tests": [{ keys: ["Ctrl", "Enter"], word: t("send") }],
  "/releases": [
    { keys: ["J", "K"], word: t("next, previous change") },
    { keys: ["Shift", "D"], word: t("to deploy") },
    { keys: ["Shift", "R"], word: t("to roll back") },
  ],
  "/definitions/packages": [],
  "/definitions/requests": [],
  "/definitions": [
    { keys: ["Ctrl", "S"], word: t("save") },
    { keys: ["/"], word: t("narrow the list") },
  ],
  "/pools": [{ keys: ["J", "K"], word: t("next, previous pool") }],
  "/jobs": [{ keys: ["J", "K"], word: t("next, previous job") }],
  "/calls": [
    { keys: ["J", "K"], word: t("next, previous") },
    { keys: ["Enter"], word: t("open on the test bench") },
    { keys: ["/"], word: t("search") },
  ],
};

export function keysOf(path: string, section: string): Key[] {
  const keys =
    routeOf(path)?.keys ??
    SECTION[path] ??
    (path.startsWith("/services/") ? SECTION["/services/"] : SECTION[section]) ??
    [];
  return [...keys, { keys: ["?"], word: t("all keys") }];
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
          <Dialog.Title className="mb-2 text-[15px] font-semibold">{t("Keys of this page")}</Dialog.Title>
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
