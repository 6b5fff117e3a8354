/** Queries: a statement in the database's own language. They are edited as text. */
import { Rows3 } from "lucide-react";
import type { SourceKind } from "../kind";
import { t } from "../../text";

export const QUERY: SourceKind = {
  kind: "query",
  icon: Rows3,
  word: t("query"),
  gives: t("query"),
  comparable: true,
  routes: [],
  spots: [],
  makes: [{ word: t("Query"), words: t("a SELECT with prompts, groups and totals"), path: "/definitions?new=query" }],
  link: () => undefined,
};
