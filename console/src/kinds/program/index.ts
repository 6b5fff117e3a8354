/** Programs: COBOL, reached with a record that a copybook lays out. */
import { Binary } from "lucide-react";
import { lazy } from "react";
import type { SourceKind } from "../kind";
import { t } from "../../text";

export const PROGRAM: SourceKind = {
  kind: "program",
  icon: Binary,
  word: t("program"),
  gives: t("program"),
  comparable: false,
  routes: [
    {
      path: "/definitions/copybooks",
      page: lazy(() => import("./page")),
      section: "/services",
      place: { word: t("Copybooks") },
      way: t("Copybooks"),
      keys: [],
    },
  ],
  spots: [{ word: t("Copybooks"), path: "/definitions/copybooks" }],
  makes: [
    { word: t("Program"), words: t("a COBOL program, by its copybook"), path: "/definitions/copybooks?copybook=" },
  ],
  link: (name) => ({ word: t("See its definition"), path: `/definitions?of=${encodeURIComponent(`program ${name}`)}` }),
};
