/** A kept copybook that is replaced: what differs, what would not fit any more, who is affected, before it is saved. */
import { useEffect, useState } from "react";
import { ask, type TakenCopybook } from "../../api";
import { useAct } from "../../act";
import { Affected } from "../../parts/affected";
import { Problems } from "../../parts/controls";
import { Panel } from "../../parts/dialog";
import { t } from "../../text";
import { said, type Copybook } from "./types";

export function Taking({ copybook, onDone }: { copybook: Copybook; onDone: (saved: boolean) => void }) {
  const act = useAct();
  const [found, setFound] = useState<TakenCopybook | null>(null);
  const { name } = copybook;
  const take = (save: boolean) =>
    act.run(async () => {
      const answer = await ask<TakenCopybook>("PUT", `/copybooks/${encodeURIComponent(name)}`, {
        ...said(copybook),
        save,
      });
      if (save) onDone(true);
      else setFound(answer);
    });
  useEffect(() => {
    void take(false);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- asked once, when it opens
  }, []);
  return (
    <Panel title={t("Save the copybook {0}", name)} open onClose={() => onDone(false)} wide>
      <Problems problems={act.problems} />
      {found && (
        <>
          {found.new && <p>{t("It is new.")}</p>}
          {!found.new && !found.differences.length && <p>{t("It lays out what the one that is kept does.")}</p>}
          {found.differences.length > 0 && (
            <table className="tbl">
              <thead>
                <tr>
                  <th scope="col">{t("Item")}</th>
                  <th scope="col">{t("What")}</th>
                  <th scope="col">{t("Was")}</th>
                  <th scope="col">{t("Is")}</th>
                </tr>
              </thead>
              <tbody>
                {found.differences.map((one, index) => (
                  <tr key={index}>
                    <td className="font-mono text-[12.5px] break-all">{one.path}</td>
                    <td>{one.what}</td>
                    <td className="text-ink2">{one.was ?? ""}</td>
                    <td>{one.now ?? ""}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          <Problems problems={found.problems} mark="risk" />
          <Affected rows={found.affected} />
          <button type="button" className="btn btn-main mt-3" onClick={() => void take(true)}>
            {t("Save as a draft")}
          </button>
        </>
      )}
    </Panel>
  );
}
