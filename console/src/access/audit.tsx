/** The audit trail: who changed what, from what, to what. */
import { useState } from "react";
import type { AuditEntry } from "../api";
import { useLoad } from "../load";
import { NotLoaded } from "../parts/controls";
import { when } from "../formats";
import { rich, t } from "../text";

function short(value: unknown): string {
  if (value === null || value === undefined) return "";
  if (typeof value === "string") return `${value.trim().split("\n").length} lines`;
  return Object.entries(value as Record<string, unknown>)
    .filter(([, one]) => one !== null && one !== "" && !(Array.isArray(one) && !one.length))
    .map(([name, one]) => `${name} ${typeof one === "string" ? one : JSON.stringify(one)}`)
    .join(", ");
}

export function Audit() {
  const { data, error } = useLoad<AuditEntry[]>("/audit?limit=300", 10);
  const [words, setWords] = useState("");
  if (error && !data) return <NotLoaded error={error} />;
  if (!data) return null;
  const shown = data.filter((one) =>
    words
      .toLowerCase()
      .split(/\s+/)
      .every((word) => `${one.who} ${one.action} ${one.subject}`.toLowerCase().includes(word)),
  );
  return (
    <>
      <div className="flex items-center gap-3 px-5 py-2">
        <input
          data-narrow
          className="field w-72!"
          placeholder={t("Words: who, what, which thing")}
          aria-label={t("Narrow the trail")}
          value={words}
          onChange={(event) => setWords(event.target.value)}
        />
        <span className="text-xs text-ink2">{rich("{0} of the newest {1} changes", shown.length, data.length)}</span>
      </div>
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("Time")}</th>
            <th scope="col">{t("Who")}</th>
            <th scope="col">{t("What")}</th>
            <th scope="col">{t("Subject")}</th>
            <th scope="col">{t("Before")}</th>
            <th scope="col">{t("After")}</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((one) => (
            <tr key={one.id}>
              <th scope="row" className="whitespace-nowrap">
                {when(one.at)}
              </th>
              <td>{one.who}</td>
              <td className="whitespace-nowrap">{one.action}</td>
              <td className="font-semibold whitespace-nowrap">{one.subject}</td>
              <td className="max-w-60 truncate text-ink2" title={short(one.before)}>
                {short(one.before)}
              </td>
              <td className="max-w-80 truncate" title={short(one.after)}>
                {short(one.after)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {!shown.length && <p className="px-5 py-2 text-ink2">{t("Nothing matches.")}</p>}
    </>
  );
}
