/** What each kind of step looks like. */
import {
  ArrowLeftRight,
  Columns2,
  CornerDownLeft,
  Equal,
  FileDown,
  FileUp,
  Hourglass,
  Link2,
  Repeat,
  RotateCw,
  ShieldAlert,
  Split,
  StickyNote,
  type LucideIcon,
} from "lucide-react";
import { Mark } from "../../parts/marks";
import { t } from "../../text";
import { actionOf, type Action, type Step } from "./tree";

const ICONS: Record<Exclude<Action, "fail">, LucideIcon> = {
  call: ArrowLeftRight,
  set: Equal,
  when: Split,
  for_each: Repeat,
  repeat_while: RotateCw,
  parallel: Columns2,
  attempt: ShieldAlert,
  session: Link2,
  reply: CornerDownLeft,
  note: StickyNote,
  wait: Hourglass,
  write_file: FileDown,
  read_file: FileUp,
};

export const WORDS: Record<Action, string> = {
  call: t("call"),
  set: t("set"),
  when: t("when"),
  for_each: t("for each"),
  repeat_while: t("repeat while"),
  parallel: t("parallel"),
  attempt: t("attempt"),
  session: t("session"),
  reply: t("reply"),
  fail: t("fail"),
  note: t("note"),
  wait: t("wait"),
  write_file: t("write a file"),
  read_file: t("read a file"),
};

export const HELP: Record<Action, string> = {
  call: t("an operation of anything: an object, a query, screens, a relay, another workflow, an address"),
  set: t("work out values and give them names"),
  when: t("decide: the first branch whose condition holds"),
  for_each: t("do something with each item of a list"),
  repeat_while: t("do something again while a condition holds"),
  parallel: t("do several things side by side"),
  attempt: t("catch what fails in it"),
  session: t("keep one session: steps are stored together"),
  reply: t("answer the caller"),
  fail: t("end with a declared fault"),
  note: t("leave a line in the trace"),
  wait: t("wait for some seconds"),
  write_file: t("write a file below an allowed folder"),
  read_file: t("read a file below an allowed folder"),
};

export function ActionIcon({ step, className = "" }: { step: Step; className?: string }) {
  const action = actionOf(step);
  if (action === "fail")
    return (
      <span className={`flex w-4 shrink-0 justify-center ${className}`}>
        <Mark name="fault" />
      </span>
    );
  const Icon = ICONS[action];
  return <Icon size={16} strokeWidth={1.75} className={`shrink-0 ${className}`} aria-hidden />;
}
