/** The steps of a call on a time line, the cause of a failure first; each opens to what it took and gave. */
import { useState } from "react";
import type { CallDetail, Span } from "../api";
import { brief, took } from "../formats";
import { rich, t } from "../text";
import { Mark } from "./marks";

/** The step in which the call's own failure began: of those that failed so, the last and innermost. */
export function causeOf(spans: readonly Span[]): Span | undefined {
  const [root, ...rest] = spans;
  if (!root?.failed) return undefined;
  const failed = rest.filter((one) => one.failed && one.action !== "undo");
  const same = failed.filter((one) => one.failed === root.failed);
  return (same.length ? same : failed).sort((one, other) => other.at - one.at || other.depth - one.depth)[0] ?? root;
}

export function Timeline({ trace }: { trace: NonNullable<CallDetail["trace"]> }) {
  const spans = trace.spans;
  const cause = causeOf(spans);
  const [open, setOpen] = useState(cause ? spans.indexOf(cause) : -1);
  const whole = Math.max(1, ...spans.map((one) => one.at + (one.micros ?? 0)));
  return (
    <section aria-label={t("Trace")} className="mt-3">
      <h3 className="mb-1 text-[13px] font-semibold">{t("Trace")}</h3>
      {cause && cause !== spans[0] && (
        <p className="mb-1.5 text-[13px]">
          {rich("Began in {0}: {1}", <b className="font-semibold">{cause.name}</b>, cause.words ?? "")}
        </p>
      )}
      <ol className="border-t border-line">
        {spans.map((one, index) => (
          <li key={index} className="border-b border-line">
            <button
              type="button"
              aria-expanded={open === index}
              onClick={() => setOpen(open === index ? -1 : index)}
              className={`grid h-7 w-full grid-cols-[minmax(0,1fr)_96px_58px] items-center gap-2 text-left ${open === index ? "bg-wash" : ""}`}
            >
              <span className="flex min-w-0 items-center gap-1.5" style={{ paddingLeft: one.depth * 10 }}>
                {one.failed ? <Mark name="fault" label={t("failed")} /> : <Mark name="serving" />}
                <span className="truncate font-medium">{one.name}</span>
                <span className="truncate text-xs text-ink3">{index ? one.action : ""}</span>
              </span>
              <span className="relative h-2 border-b border-water" aria-hidden>
                <span
                  className={`absolute bottom-0 h-2 ${one.failed ? "bg-bad" : "bg-post"}`}
                  style={{
                    left: `${(one.at * 100) / whole}%`,
                    width: `${Math.max(1.5, ((one.micros ?? 0) * 100) / whole)}%`,
                  }}
                />
              </span>
              <span className="text-right text-xs text-ink2">
                {one.micros === null ? t("cut off") : brief(one.micros)}
              </span>
            </button>
            {open === index && <Detail span={one} />}
          </li>
        ))}
      </ol>
      {trace.dropped > 0 && <p className="text-xs text-ink2">{t("{0} further steps were not kept.", trace.dropped)}</p>}
    </section>
  );
}

function Detail({ span }: { span: Span }) {
  return (
    <div className="bg-sheet px-2 py-1.5 text-xs">
      {span.failed && <p className="text-bad">{span.words || span.failed}</p>}
      {span.lent?.map((one, index) => (
        <p key={index} className="text-ink2">
          {t("session {0} of {1}, {2}", one.session, one.pool, one.endpoint)}
          {one.waited >= 100 && t(", waited {0}", took(one.waited))}
        </p>
      ))}
      {(span.tries ?? 1) > 1 && <p className="text-warn">{t("tried {0} times", span.tries ?? 1)}</p>}
      {span.lines?.map((one, index) => (
        <p key={index} className="font-mono break-words text-ink2">
          {one}
        </p>
      ))}
      {(
        [
          [t("took"), span.taken],
          [t("gave"), span.given],
        ] as const
      ).map(([word, value]) =>
        value === undefined ? null : (
          <div key={word}>
            <span className="text-ink2">{word}</span>
            <pre className="max-h-44 overflow-auto font-mono text-[12px] leading-4 whitespace-pre-wrap">
              {JSON.stringify(value, null, 1)}
            </pre>
          </div>
        ),
      )}
    </div>
  );
}
