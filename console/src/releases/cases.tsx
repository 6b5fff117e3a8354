/** The test cases that a change is about: those that do not fit the new contract first, each with what can be mended by itself. */
import { useState } from "react";
import { Link } from "wouter";
import { ask, type AffectedCase, type MendedSuite } from "../api";
import { useAct } from "../act";
import { useLens, within } from "../lens";
import { Problems } from "../parts/controls";
import { Mark } from "../parts/marks";
import { mayAtLeast, useSession } from "../session";
import { plural } from "../formats";
import { rich, t } from "../text";

export function AffectedCases({ cases }: { cases: AffectedCase[] }) {
  const may = mayAtLeast(useSession(), "integrator");
  const [view] = useLens();
  const act = useAct();
  const [said, setSaid] = useState("");
  const rows = [...cases].sort((one, other) => Number(!one.problems.length) - Number(!other.problems.length));
  const mendable = [...new Set(rows.filter((one) => one.mends.length).map((one) => one.suite))];
  const mend = (suite: string) =>
    act.run(async () => {
      const found = await ask<MendedSuite>("POST", `/suites/${encodeURIComponent(suite)}/mend`);
      setSaid(t("{0} in {1}, as a draft.", plural(found.mended.length, "mend"), suite));
    });
  if (!rows.length)
    return <p className="px-5 py-3 text-ink2">{t("No test case is about what changes, and all of them fit.")}</p>;
  return (
    <>
      {(mendable.length > 0 || said) && (
        <div className="flex items-center gap-3 border-b border-line px-5 py-2" role="status">
          {said ||
            mendable.map((one) => (
              <button
                key={one}
                type="button"
                className="btn"
                aria-disabled={!may || act.busy}
                title={may ? undefined : t("Editing needs the role integrator")}
                onClick={() => {
                  if (may && !act.busy) void mend(one);
                }}
              >
                {rich("Mend {0}", one)}
              </button>
            ))}
        </div>
      )}
      <Problems problems={act.problems} />
      <table className="tbl">
        <thead>
          <tr>
            <th scope="col">{t("Test case")}</th>
            <th scope="col">{t("Operation")}</th>
            <th scope="col">{t("After the change")}</th>
            <th scope="col">{t("Mend")}</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((one) => (
            <tr key={`${one.suite} ${one.case}`}>
              <th scope="row">
                <Link className="act" href={within(`/tests/suites?suite=${one.suite}&case=${one.case}`, view)}>
                  {one.suite} {one.case}
                </Link>
              </th>
              <td>{one.operation}</td>
              <td>
                <span className="flex items-center gap-2">
                  <Mark name={one.problems.length ? "fault" : "risk"} />
                  {one.problems[0]?.message ?? t("is about what changes")}
                </span>
              </td>
              <td className="text-ink2">{one.mends.join("; ")}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
