/** Routines: procedures and functions of a database. */
import { SquareFunction } from "lucide-react";
import { lazy } from "react";
import type { SourceKind } from "../kind";
import { t } from "../../text";

export const ROUTINE: SourceKind = {
  kind: "routine",
  icon: SquareFunction,
  word: t("routine"),
  gives: t("routine"),
  comparable: false,
  inDatabase: {
    name: "routine",
    List: lazy(() => import("./list")),
    View: lazy(() => import("./view")),
  },
  routes: [],
  spots: [{ word: t("Routines of a database"), path: "/definitions/database" }],
  makes: [{ word: t("Routine"), words: t("a procedure or function of a database"), path: "/definitions/database" }],
  link: (name) => ({ word: t("See its definition"), path: `/definitions?of=${encodeURIComponent(`routine ${name}`)}` }),
};
