/** Relays: operations of somebody else's contract, sent on to their service. They are edited as text. */
import { ArrowRightLeft } from "lucide-react";
import type { SourceKind } from "../kind";
import { t } from "../../text";

export const RELAY: SourceKind = {
  kind: "relay",
  icon: ArrowRightLeft,
  word: t("relay"),
  gives: t("other side"),
  comparable: false,
  outside: true,
  routes: [],
  spots: [],
  makes: [
    {
      word: t("Relay"),
      words: t("a contract sent on to the service of somebody else"),
      path: "/definitions?new=relay",
    },
  ],
  link: () => undefined,
};
