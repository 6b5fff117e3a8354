/** The two acts of a form that makes definitions, and what came of it. */
import { Plus } from "lucide-react";
import { Link } from "wouter";
import { useLens, within } from "../lens";
import { plural } from "../formats";
import { rich, t } from "../text";
import { Mark } from "./marks";

export function MakeActs({ ready, onShow }: { ready: boolean; onShow: () => void }) {
  return (
    <div className="flex gap-2">
      <button type="submit" className="btn btn-main" aria-disabled={!ready}>
        {rich("{0}Make it", <Plus size={15} strokeWidth={1.75} />)}
      </button>
      <button
        type="button"
        className="btn"
        aria-disabled={!ready}
        onClick={() => {
          if (ready) onShow();
        }}
      >
        {t("Show the text")}
      </button>
    </div>
  );
}

/** `seen` is where the definitions are looked at, when no service publishes them. */
export function MadeDrafts({
  paths,
  service,
  seen,
  environment,
}: {
  paths: string[];
  service: string;
  seen: { word: string; path: string };
  environment: string;
}) {
  const [view] = useLens();
  return (
    <p role="status" className="mt-3">
      {rich(
        "{0} Saved as {1}: {2}. {3} It is reachable in {4} after a release and a deployment.",
        <Mark name="draft" />,
        plural(paths.length, "draft"),
        paths.join(", "),
        service ? (
          <Link className="act" href={within(`/services/${service}`, view)}>
            {rich("Look at {0} →", service)}
          </Link>
        ) : (
          <Link className="act" href={within(seen.path, view)}>
            {seen.word}
          </Link>
        ),
        environment,
      )}
    </p>
  );
}
