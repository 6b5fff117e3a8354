/** Contracts of others: taken in as services, whose operations answer samples until something implements them. */
import { FileSignature } from "lucide-react";
import { lazy } from "react";
import type { SourceKind } from "../kind";
import { t } from "../../text";

export const CONTRACT: SourceKind = {
  kind: "contract",
  icon: FileSignature,
  word: t("stub of a contract"),
  gives: t("sample"),
  comparable: false,
  routes: [
    {
      path: "/definitions/contracts",
      page: lazy(() => import("./page")),
      section: "/services",
      place: { word: t("Definitions") },
      way: t("Contracts of others"),
      keys: [],
    },
  ],
  spots: [
    { word: t("Contracts of others"), path: "/definitions/contracts" },
    { word: t("Take in a contract"), path: "/definitions/contracts" },
  ],
  makes: [
    {
      word: t("Outside contract"),
      words: t("a WSDL of somebody else, to offer or to call"),
      path: "/definitions/contracts",
    },
  ],
  link: (name) => ({
    word: t("Look at the contract {0}", name),
    path: `/definitions/contracts?contract=${encodeURIComponent(name)}`,
  }),
};
