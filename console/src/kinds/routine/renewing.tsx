/** A definition that says something else than its routine: what differs and who is affected, before it is brought up to it. */
import { useEffect, useState } from "react";
import { ask, type RoutineRenewed } from "../../api";
import { useAct } from "../../act";
import { Affected } from "../../parts/affected";
import { Problems } from "../../parts/controls";
import { Panel } from "../../parts/dialog";
import { t } from "../../text";
import { OpenZones } from "./zones";

export function Renewing({
  name,
  environment,
  onDone,
}: {
  name: string;
  environment: string;
  onDone: (saved: boolean) => void;
}) {
  const act = useAct();
  const [found, setFound] = useState<RoutineRenewed | null>(null);
  const renew = (save: boolean) =>
    act.run(async () => {
      const path = `/routines/${encodeURIComponent(name)}/renewal/${encodeURIComponent(environment)}`;
      const answer = await ask<RoutineRenewed>("PUT", path, { save });
      if (save) onDone(true);
      else setFound(answer);
    });
  useEffect(() => {
    void renew(false);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- asked once, when it opens
  }, []);
  return (
    <Panel title={t("Bring {0} up to its routine in {1}", name, environment)} open onClose={() => onDone(false)} wide>
      <Problems problems={act.problems} />
      {found && (
        <>
          <table className="tbl">
            <thead>
              <tr>
                <th scope="col">{t("What")}</th>
                <th scope="col">{t("As it is defined")}</th>
                <th scope="col">{t("As it is there")}</th>
              </tr>
            </thead>
            <tbody>
              {found.differences.map((one) => (
                <tr key={one.name}>
                  <td className="font-mono text-[12.5px] break-all">{one.name}</td>
                  <td className="text-ink2">{one.was}</td>
                  <td>{one.now}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <p className="mt-2 text-ink2">
            {t("Names, labels and faults stay as they are; what is new comes in, what is gone goes, types follow.")}
          </p>
          {found.untold.length > 0 && (
            <p className="mt-2 text-warn">{t("Not told to callers: {0} of its rows.", found.untold.join(", "))}</p>
          )}
          <OpenZones names={found.open_zones} />
          <Problems problems={found.problems} mark="risk" />
          <Affected rows={found.affected} />
          <button type="button" className="btn btn-main mt-3" onClick={() => void renew(true)}>
            {t("Save as a draft")}
          </button>
        </>
      )}
    </Panel>
  );
}
