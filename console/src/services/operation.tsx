/** One operation: what it runs, its parameters and faults, and what the contract of somebody else decides. */
import type { ReactNode } from "react";
import type { OperationShape } from "../api";
import { kindOf } from "../kinds";
import { rich, t } from "../text";
import { Elements } from "./elements";
import { FromContract } from "./from-contract";

export function OperationView({
  operation,
  service,
  of,
  onChanged,
}: {
  operation: OperationShape;
  service: string;
  of: ReactNode;
  onChanged: () => void;
}) {
  const kept = Object.entries(operation.kept_inside ?? {});
  return (
    <>
      <div className="px-5 pt-2.5 pb-2">
        <div className="flex items-center">
          <h2 className="text-[15px] leading-5 font-semibold">{operation.name}</h2>
          <span className="ml-auto flex items-center gap-1.5 text-xs text-ink2">{of}</span>
        </div>
        <p>{operation.description || <span className="text-warn">{t("Not described yet")}</span>}</p>
        <p className="text-xs text-ink2">
          {operation.runs && <>{rich("Runs {0}.", <span className="font-mono">{operation.runs}</span>)} </>}
          {operation.roles?.length ? (
            <>{rich("Callers need the role {0}.", operation.roles.join(" or "))}</>
          ) : (
            <span className="font-semibold text-warn">{t("No role is named, so nobody may call it.")}</span>
          )}
        </p>
      </div>
      <Elements head={t("Input")} last={t("Required")} elements={operation.input} />
      <p className="px-5 py-1.5 text-xs text-ink2">
        {rich(
          "{0} in the contract{1}",
          operation.input.length,
          kept.length > 0 &&
            t(", {0} kept inside: {1}", kept.length, kept.map(([name, value]) => `${name} = ${value}`).join(", ")),
        )}
      </p>
      <Elements
        head={t("Output")}
        last={t("Always")}
        elements={operation.output}
        from={kindOf(operation.source?.kind)}
      />
      {operation.faults.length > 0 && (
        <table className="tbl mt-2">
          <thead>
            <tr>
              <th scope="col">{t("Fault")}</th>
              <th scope="col">{t("Meaning")}</th>
              <th scope="col">{t("Detail")}</th>
            </tr>
          </thead>
          <tbody>
            {operation.faults.map((one) => (
              <tr key={one.name}>
                <th scope="row" className="font-mono text-[12.5px]">
                  {one.name}
                </th>
                <td>{one.description}</td>
                <td className="font-mono text-[12.5px]">{one.elements.map((inner) => inner.name).join(", ")}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {operation.contract && operation.contract.length > 0 && (
        <FromContract
          key={`${service} ${operation.name}`}
          service={service}
          operation={operation.name}
          runs={operation.runs}
          said={operation.contract}
          onChanged={onChanged}
        />
      )}
    </>
  );
}
