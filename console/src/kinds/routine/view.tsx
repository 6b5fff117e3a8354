/** One procedure or function: what it takes and gives, and a definition made of it. */
import { useState } from "react";
import type { RoutineDetail } from "../../api";
import { useLoad } from "../../load";
import { Problems } from "../../parts/controls";
import { Mark } from "../../parts/marks";
import { rich, t } from "../../text";
import { MakeOperation } from "./make";
import { Renewing } from "./renewing";

const WAYS: Record<string, string> = {
  in: t("in"),
  out: t("out"),
  "in-out": t("in and out"),
  returns: t("its value"),
  row: t("of each row"),
};

export default function RoutineView({
  base,
  chosen,
  environment,
  onMade,
}: {
  base: string;
  chosen: string;
  environment: string;
  onMade: () => void;
}) {
  const name = chosen.slice(0, chosen.indexOf("("));
  const signature = chosen.slice(name.length + 1, -1);
  const query = `name=${encodeURIComponent(name)}&signature=${encodeURIComponent(signature)}`;
  const found = useLoad<RoutineDetail>(`${base}/routine?${query}`);
  const [renewed, setRenewed] = useState("");
  return (
    <>
      <section aria-label={t("Routine")} className="min-h-0 min-w-0 overflow-auto">
        {found.error && (
          <div className="p-5">
            <Problems problems={found.error.problems} />
          </div>
        )}
        {found.data && <Parameters routine={found.data} onRenew={setRenewed} />}
      </section>
      <aside aria-label={t("Make an operation")} className="min-h-0 overflow-auto border-l border-line bg-inset">
        {found.data && (
          <MakeOperation key={chosen} routine={found.data} base={base} environment={environment} onMade={onMade} />
        )}
      </aside>
      {renewed && (
        <Renewing
          name={renewed}
          environment={environment}
          onDone={(saved) => {
            setRenewed("");
            if (!saved) return;
            found.reload();
            onMade();
          }}
        />
      )}
    </>
  );
}

function Parameters({ routine, onRenew }: { routine: RoutineDetail; onRenew: (name: string) => void }) {
  const rows = [
    ...routine.parameters,
    ...routine.columns.map((one) => ({ ...one, way: "row", optional: false, default: "", codes: [], zone: "" })),
  ];
  return (
    <>
      <div className="px-5 pt-3 pb-2">
        <h1 className="font-mono text-[17px] font-semibold">{routine.name}</h1>
        <p className="text-ink2">
          {routine.form === "function" ? t("Function") : t("Procedure")}
          {", "}
          {routine.writes ? t("may change something") : t("declared to read only")}
          {routine.comment && `. ${routine.comment}`}
        </p>
        {routine.reasons.map((one) => (
          <p key={one} className="strip mt-2">
            {rich("It cannot be published: {0}.", one)}
          </p>
        ))}
        {routine.differs.map((one) => (
          <p key={one} className="strip mt-2 flex items-center gap-3">
            <span>{rich("{0} says something else than what is here.", <b className="font-semibold">{one}</b>)}</span>
            <button type="button" className="btn ml-auto" onClick={() => onRenew(one)}>
              {t("See what differs")}
            </button>
          </p>
        ))}
        {routine.shows_rows && (
          <p className="strip mt-2">
            {t("What rows it gives, if any, no catalogue tells: call it once, or write them into the definition.")}
          </p>
        )}
      </div>
      {rows.length === 0 && <p className="px-5 text-ink2">{t("It takes and gives nothing.")}</p>}
      {rows.length > 0 && (
        <table className="tbl">
          <thead>
            <tr>
              <th scope="col">{t("Parameter")}</th>
              <th scope="col">{t("Way")}</th>
              <th scope="col">{t("Type there")}</th>
              <th scope="col">{t("Type here")}</th>
              <th scope="col">{t("May be left out")}</th>
              <th scope="col">{t("Codes")}</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((one) => (
              <tr key={`${one.way} ${one.name}`}>
                <th scope="row" className="font-mono text-[12.5px] whitespace-nowrap">
                  {one.name}
                </th>
                <td className="whitespace-nowrap">{WAYS[one.way] ?? one.way}</td>
                <td className="font-mono text-[12px] text-ink2">{one.declared}</td>
                <td>
                  {one.type || (
                    <span className="flex items-center gap-1.5 text-warn">
                      {rich("{0}none, left out", <Mark name="risk" />)}
                    </span>
                  )}
                </td>
                <td className="text-ink2">
                  {one.optional ? (
                    one.default ? (
                      <>{rich("default {0}", <span className="font-mono text-[12px]">{one.default}</span>)}</>
                    ) : (
                      t("the database has a default")
                    )
                  ) : (
                    ""
                  )}
                </td>
                <td className="text-ink2">{one.codes.join(", ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}
