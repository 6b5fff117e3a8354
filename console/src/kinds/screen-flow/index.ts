/** Screen flows: a way through the screens of a terminal host. */
import { SquareTerminal } from "lucide-react";
import { lazy } from "react";
import type { SourceKind } from "../kind";
import { t } from "../../text";

export const SCREEN_FLOW: SourceKind = {
  kind: "screen-flow",
  icon: SquareTerminal,
  word: t("screen flow"),
  gives: t("screen"),
  comparable: false,
  section: { path: "/screens", word: t("Screens"), icon: SquareTerminal, key: "n" },
  routes: [
    {
      path: "/screens/record",
      page: lazy(() => import("./record")),
      section: "/screens",
      place: { word: t("Record") },
      keys: [
        { keys: ["Alt", "I"], word: t("mark input") },
        { keys: ["Alt", "O"], word: t("mark output") },
        { keys: ["Alt", "L"], word: t("mark list") },
        { keys: ["Alt", "M"], word: t("hide the marks") },
        { keys: ["Shift", "Esc"], word: t("leave the screen") },
      ],
    },
    {
      path: "/screens",
      page: lazy(() => import("./films")),
      section: "/screens",
      place: { value: "flow" },
      keys: [],
    },
  ],
  spots: [
    { word: t("Screens"), path: "/screens" },
    { word: t("Record a screen flow"), path: "/screens/record" },
  ],
  makes: [{ word: t("Screen flow"), words: t("recorded on a terminal"), path: "/screens/record" }],
  link: (name) => ({ word: t("See its screens"), path: `/screens?flow=${encodeURIComponent(name)}` }),
};
