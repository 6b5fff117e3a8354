/** What a contract offers: services, ports, operations with their messages, and everything that is wrong with it. */
import type { ReadContract } from "../../api";
import { plural } from "../../formats";
import { Mark } from "../../parts/marks";
import { rich, t } from "../../text";

/** The last part of an expanded name; the whole of it stands in the title. */
function Name({ tag }: { tag: string | null }) {
  if (tag === null) return <span className="text-ink3">{t("none")}</span>;
  return (
    <span className="font-mono text-[12.5px]" title={tag}>
      {tag.slice(tag.lastIndexOf("}") + 1)}
    </span>
  );
}

export function Offer({ contract }: { contract: ReadContract }) {
  const services = Object.entries(contract.services);
  return (
    <>
      <p className="px-5 py-2 text-ink2">
        {rich(
          "Namespace {0}, {1}",
          <span className="font-mono text-[12.5px] break-all text-ink">{contract.targetNamespace || t("none")}</span>,
          plural(contract.parts.length, "part"),
        )}
      </p>
      {services.map(([name, ports]) => (
        <section key={name} aria-label={t("Service {0}", name)} className="border-t border-line2">
          {Object.entries(ports).map(([port, one]) => (
            <div key={port} className="pb-2">
              <h3 className="flex items-baseline gap-2 px-5 pt-2.5 pb-1">
                <b className="font-semibold">{name}</b>
                <span className="text-ink2">{rich("port {0}", port)}</span>
                <span className={one.soap ? "" : "text-warn"}>
                  {one.soap ? t("SOAP {0}", one.soap) : t("not SOAP, left aside")}
                </span>
                <span className="ml-auto truncate font-mono text-[12px] text-ink3">{one.address}</span>
              </h3>
              <table className="tbl">
                <thead>
                  <tr>
                    <th scope="col">{t("Operation")}</th>
                    <th scope="col">{t("Style")}</th>
                    <th scope="col">{t("Request")}</th>
                    <th scope="col">{t("Answer")}</th>
                    <th scope="col">{t("Faults")}</th>
                    <th scope="col">{t("Headers")}</th>
                  </tr>
                </thead>
                <tbody>
                  {Object.entries(one.operations).map(([operation, detail]) => (
                    <tr key={operation}>
                      <th scope="row" className="font-semibold">
                        {operation}
                      </th>
                      <td className="text-ink2">{detail.style}</td>
                      <td>
                        <Name tag={detail.input} />
                      </td>
                      <td>
                        {detail.output === null ? (
                          <span className="text-ink3">{t("none, or an empty one")}</span>
                        ) : (
                          <Name tag={detail.output} />
                        )}
                      </td>
                      <td>{Object.keys(detail.faults ?? {}).join(", ") || <span className="text-ink3">–</span>}</td>
                      <td>
                        {Object.values(detail.headers ?? {})
                          .flat()
                          .map((tag) => tag.slice(tag.lastIndexOf("}") + 1))
                          .join(", ") || <span className="text-ink3">–</span>}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {!Object.keys(one.operations).length && (
                <p className="px-5 py-1 text-ink2">{t("No operation of this port can be served.")}</p>
              )}
            </div>
          ))}
        </section>
      ))}
      <section aria-label={t("Problems of the contract")} className="border-t border-line2 pb-3">
        <h3 className="flex items-center gap-2 px-5 py-2 font-semibold">
          <Mark name={contract.problems.length ? (contract.usable ? "risk" : "fault") : "serving"} />
          {contract.problems.length ? plural(contract.problems.length, "problem") : t("No problem was found.")}
          {contract.problems.length > 0 && contract.usable && (
            <span className="font-normal text-ink2">{t("What is listed above can be served all the same.")}</span>
          )}
        </h3>
        {contract.problems.length > 0 && (
          <table className="tbl">
            <thead>
              <tr>
                <th scope="col">{t("Where")}</th>
                <th scope="col" className="num">
                  {t("Line")}
                </th>
                <th scope="col">{t("What")}</th>
              </tr>
            </thead>
            <tbody>
              {contract.problems.map((one, index) => (
                <tr key={index}>
                  <td className="font-mono text-[12px] break-all">{one.place}</td>
                  <td className="num">{one.line ?? ""}</td>
                  <td>
                    {one.message} <span className="text-ink3">{one.code}</span>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </section>
    </>
  );
}
