/** Business objects: rows of one table or view. */
import { Table2 } from "lucide-react";
import { lazy } from "react";
import type { SourceKind } from "../kind";

export const OBJECT: SourceKind = {
  kind: "object",
  icon: Table2,
  word: "business object",
  gives: "object",
  comparable: true,
  routes: [
    {
      path: "/definitions/objects",
      page: lazy(() => import("./editor")),
      section: "/services",
      place: { word: "Definitions" },
      keys: [{ keys: ["Ctrl", "S"], word: "save" }],
    },
    {
      path: "/definitions/database",
      page: lazy(() => import("./database")),
      section: "/services",
      place: { word: "Definitions" },
      keys: [{ keys: ["/"], word: "narrow the list" }],
    },
  ],
  spots: [
    { word: "Objects", path: "/definitions/objects" },
    { word: "Tables of a database", path: "/definitions/database" },
  ],
  link: (name) => ({ word: `Edit ${name}`, path: `/definitions/objects?object=${encodeURIComponent(name)}` }),
};
