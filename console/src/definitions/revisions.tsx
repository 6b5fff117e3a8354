/** Who wrote which text of a definition when; an older one can be taken up again. */
import { when } from "../formats";
import { t } from "../text";

export interface Revision {
  revision: number;
  author: string;
  at: string;
  text: string;
}

export function Revisions({
  revisions,
  stored,
  may,
  onTake,
}: {
  revisions: Revision[];
  stored: string;
  may: boolean;
  onTake: (text: string) => void;
}) {
  return (
    <section aria-label={t("Revisions")} className="min-h-0 grow overflow-auto">
      {revisions.map((one) => (
        <div key={one.revision} className="border-b border-line px-4 py-1.5">
          <span className="flex">
            <b className="font-semibold">{one.author}</b>
            <span className="ml-auto text-xs text-ink2">{when(one.at)}</span>
          </span>
          {one.text === stored ? (
            <span className="text-ink2">{t("as it is now")}</span>
          ) : one.text ? (
            <button
              type="button"
              className="act"
              aria-disabled={!may}
              onClick={() => {
                if (may) onTake(one.text);
              }}
            >
              {t("Take this text up again")}
            </button>
          ) : (
            <span className="text-ink2">{t("removed")}</span>
          )}
        </div>
      ))}
    </section>
  );
}
