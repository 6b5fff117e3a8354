/** Screen flows: a way through the screens of a terminal host. */
import { SquareTerminal } from "lucide-react";
import { lazy } from "react";
import type { SourceKind } from "../kind";

export const SCREEN_FLOW: SourceKind = {
  kind: "screen-flow",
  icon: SquareTerminal,
  word: "screen flow",
  gives: "screen",
  comparable: false,
  section: { path: "/screens", word: "Screens", icon: SquareTerminal, key: "n" },
  routes: [
    {
      path: "/screens/record",
      page: lazy(() => import("./record")),
      section: "/screens",
      place: { word: "Record" },
      keys: [
        { keys: ["Alt", "I"], word: "mark input" },
        { keys: ["Alt", "O"], word: "mark output" },
        { keys: ["Alt", "L"], word: "mark list" },
        { keys: ["Alt", "M"], word: "hide the marks" },
        { keys: ["Shift", "Esc"], word: "leave the screen" },
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
    { word: "Screens", path: "/screens" },
    { word: "Record a screen flow", path: "/screens/record" },
  ],
  link: (name) => ({ word: "See its screens", path: `/screens?flow=${encodeURIComponent(name)}` }),
};
