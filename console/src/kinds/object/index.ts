/** Business objects: rows of one table or view. */
import { Table2 } from "lucide-react";
import { lazy } from "react";
import type { SourceKind } from "../kind";
import { t } from "../../text";

export const OBJECT: SourceKind = {
  kind: "object",
  icon: Table2,
  word: t("business object"),
  gives: t("object"),
  comparable: true,
  routes: [
    {
      path: "/definitions/objects",
      page: lazy(() => import("./editor")),
      section: "/services",
      place: { word: t("Definitions") },
      way: t("Objects"),
      keys: [{ keys: ["Ctrl", "S"], word: t("save") }],
    },
    {
      path: "/definitions/database",
      page: lazy(() => import("./database")),
      section: "/services",
      place: { word: t("Definitions") },
      way: t("From a database"),
      keys: [{ keys: ["/"], word: t("narrow the list") }],
    },
  ],
  spots: [
    { word: t("Objects"), path: "/definitions/objects" },
    { word: t("Tables of a database"), path: "/definitions/database" },
  ],
  makes: [
    { word: t("Object"), words: t("a table with finders, parents and children"), path: "/definitions?new=object" },
    { word: t("Object of a table"), words: t("drafted from a table that is there"), path: "/definitions/database" },
    { word: t("Rule for tables"), words: t("many tables at once"), path: "/definitions?new=table-rule" },
  ],
  link: (name) => ({ word: t("Edit {0}", name), path: `/definitions/objects?object=${encodeURIComponent(name)}` }),
};
