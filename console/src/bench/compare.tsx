/** An answer beside the rows that it came from, field by field; and what a trial would have stored. */
import type { Compared, Reply } from "../api";
import { Mark } from "../parts/marks";
import { plural } from "../formats";
import { rich, t } from "../text";

export function Comparison({ found }: { found: Compared }) {
  const side = found.side === "answered" ? t("Answered") : t("Sent");
  const equal = found.rows.filter((one) => one.found && one.fields.every((two) => two.equal !== false)).length;
  if (found.deleted)
    return (
      <p className="flex items-center gap-2 px-5 py-2">
        <Mark name={found.equal ? "serving" : "fault"} />
        {found.equal
          ? t("The row is gone from {0}, as it should be.", found.table)
          : t("The row is still in {0}.", found.table)}
      </p>
    );
  return (
    <div>
      <p className="flex items-center gap-2 px-5 py-2">
        <Mark name={found.equal ? "serving" : "fault"} />
        <b className="font-semibold">
          {rich(
            "{0} of {1} {2} equal to the table {3}",
            equal,
            plural(found.rows.length, "row"),
            equal === 1 ? t("is") : t("are"),
            found.table,
          )}
        </b>
        {found.ordered !== null && (
          <span className={found.ordered ? "text-ink2" : "text-bad"}>
            {found.ordered ? t("and in the stated order") : t("but not in the stated order")}
          </span>
        )}
      </p>
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col" className="w-40">
              {t("Field")}
            </th>
            <th scope="col">{side}</th>
            <th scope="col">{t("Stored")}</th>
            <th scope="col">{t("Column")}</th>
          </tr>
        </thead>
        <tbody>
          {found.rows.flatMap((row, at) => [
            ...(found.rows.length > 1 || !row.found
              ? [
                  <tr key={`${at}`} className="bg-inset">
                    <th scope="rowgroup" colSpan={4} className="font-semibold">
                      <Mark name={row.found && row.fields.every((two) => two.equal !== false) ? "serving" : "fault"} />{" "}
                      {row.key}{" "}
                      <span className="font-normal text-ink2">
                        {row.note || (row.found ? "" : t("there is no such row"))}
                      </span>
                    </th>
                  </tr>,
                ]
              : []),
            ...row.fields.map((one) => (
              <tr key={`${at}-${one.field}`} className={one.equal === false ? "bg-badwash" : ""}>
                <th scope="row" className="font-mono text-[12.5px]">
                  <span title={one.equal === false ? t("not equal") : one.equal ? t("equal") : t("not compared")}>
                    <Mark name={one.equal === false ? "fault" : one.equal ? "serving" : "none"} />
                  </span>{" "}
                  {one.field}
                </th>
                <td className="font-mono text-[12.5px] break-all">
                  {one.reply ?? <i className="text-ink3">{t("no value")}</i>}
                </td>
                <td className="font-mono text-[12.5px] break-all">
                  {one.stored ?? <i className="text-ink3">{t("no value")}</i>}
                </td>
                <td className="font-mono text-[12.5px] text-ink2">{one.column}</td>
              </tr>
            )),
          ])}
        </tbody>
      </table>
    </div>
  );
}

export function TrialChanges({ reply }: { reply: Reply }) {
  if (!reply.trial) return null;
  return (
    <div className="border-b border-line px-5 py-2">
      <p className="flex items-center gap-2">
        <Mark name="moving" />
        <b className="font-semibold">
          {reply.trial === "rolled back"
            ? t("Trial: everything ran and was rolled back")
            : t("Trial: nothing was written")}
        </b>
      </p>
      {reply.changes.map((one, index) => (
        <div key={index} className="mt-1.5">
          <p>
            {rich(
              "Would be {0}: {1} {2}",
              one.action,
              <b className="font-semibold">{one.object}</b>,
              <span className="font-mono text-[12.5px]">{Object.values(one.key).join(" ")}</span>,
            )}
          </p>
          {one.action !== "deleted" && (
            <dl className="mt-0.5 grid grid-cols-[140px_minmax(0,1fr)] gap-x-4 border-l border-line2 pl-4">
              {Object.entries(one.fields).map(([name, sides]) => (
                <div key={name} className="contents">
                  <dt className="font-mono text-[12.5px] text-ink2">{name}</dt>
                  <dd className="font-mono text-[12.5px] break-all">
                    {one.action === "changed" && (
                      <>
                        <span className="text-ink2 line-through">{sides.before ?? t("no value")}</span>
                        {" → "}
                      </>
                    )}
                    {sides.after ?? t("no value")}
                  </dd>
                </div>
              ))}
            </dl>
          )}
        </div>
      ))}
    </div>
  );
}
