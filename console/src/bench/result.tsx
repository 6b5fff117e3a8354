/** What came back: outcome, the answer as a table, both envelopes. */
import { useState } from "react";
import { ask, type Compared, type OutsideAnswer, type Plain, type Problem, type Reply } from "../api";
import { useAct } from "../act";
import { CopyButton, Problems, Segments } from "../parts/controls";
import { Mark } from "../parts/marks";
import { Xml } from "../parts/xml";
import { mayAtLeast, useSession } from "../session";
import { KeepCase } from "../suites/keep";
import { Comparison, TrialChanges } from "./compare";
import { bytes, plural, took } from "../formats";
import { rich, t } from "../text";

interface Sent {
  environment: string;
  service: string;
  operation: string;
  values: Plain;
  envelope: string | null;
  soap: string;
  writes: boolean;
}

export function Result({
  reply,
  problems,
  busy,
  request,
  comparable,
  outside,
}: {
  reply: Reply | undefined;
  problems: Problem[];
  busy: boolean;
  request: Sent;
  comparable: boolean;
  /** Whether the operation is sent on to somebody else, who can be asked. */
  outside: boolean;
}) {
  const may = mayAtLeast(useSession(), "operator");
  const act = useAct();
  const [compared, setCompared] = useState<Compared>();
  const [theirs, setTheirs] = useState<OutsideAnswer>();
  const askThem = () =>
    act.run(async () => {
      if (request.writes && !window.confirm(t("It changes something on the other side, once more. Send it there?")))
        return;
      setTheirs(await ask<OutsideAnswer>("POST", "/bench/outside", { ...request, ours: reply?.response ?? "" }));
    });
  const compare = () =>
    act.run(async () => {
      setCompared(
        await ask<Compared>("POST", "/bench/comparison", {
          environment: request.environment,
          service: request.service,
          operation: request.operation,
          values: request.values,
          answer: reply?.answer,
        }),
      );
    });
  if (problems.length)
    return (
      <section className="p-5" aria-label={t("Result")}>
        <Problems problems={problems} />
      </section>
    );
  if (!reply)
    return (
      <section className="p-5" aria-label={t("Result")}>
        <h2 className="text-[15px] font-semibold">{busy ? t("Waiting for the answer") : t("Nothing sent yet")}</h2>
        <p className="mt-1 max-w-[52ch] text-ink2">
          {t(
            "The form is filled with a sample that works. Send goes through the real endpoint, as the chosen caller; what comes back appears here.",
          )}
        </p>
      </section>
    );
  const fine = reply.answer !== null && reply.status === 200;
  return (
    <section className="grid min-h-0 min-w-0 grid-rows-[52px_minmax(120px,42%)_minmax(0,1fr)]" aria-label={t("Result")}>
      <div
        role="status"
        className="flex items-center gap-4 overflow-hidden border-b border-line px-5 whitespace-nowrap"
      >
        <span className="flex items-center gap-2">
          <Mark name={fine ? "serving" : reply.fault ? "risk" : "fault"} />
          <span className="text-[15px] font-semibold">
            {fine
              ? t("Answered")
              : reply.fault
                ? t(
                    "Fault {0}",
                    reply.fault.detail.find((one) => one.name !== "problem" && one.name !== "call")?.name ??
                      reply.fault.code,
                  )
                : t("Not as promised")}
          </span>
        </span>
        <span className="text-ink2">
          {rich("in {0}", <b className="font-semibold text-ink">{took(reply.ms * 1000)}</b>)}
        </span>
        <span className="text-ink2">
          {rich("status {0}", <b className="font-semibold text-ink">{reply.status}</b>)}
        </span>
        <span className="text-ink2">
          {rich("request {0}", <b className="font-semibold text-ink">{bytes(reply.request_bytes)}</b>)}
        </span>
        <span className="text-ink2">
          {rich("response {0}", <b className="font-semibold text-ink">{bytes(reply.response_bytes)}</b>)}
        </span>
        <span className="truncate text-ink2">
          {rich("as {0}", <b className="font-semibold text-ink">{reply.caller}</b>)}
        </span>
        <span className="ml-auto flex items-center text-xs text-ink3">
          <span className="font-mono">{reply.call}</span>
          <CopyButton text={reply.call} what={t("the call number")} />
        </span>
      </div>
      <div className="min-h-0 overflow-auto border-b border-line">
        <KeepCase key={reply.call} request={request} reply={reply} />
        {reply.warnings.length > 0 && (
          <div className="border-b border-line px-5 py-2">
            <Problems problems={reply.warnings} mark="risk" />
          </div>
        )}
        <TrialChanges reply={reply} />
        {may && outside && (
          <div className="flex h-[38px] items-center gap-3 border-b border-line px-5">
            <button type="button" className="btn" aria-disabled={act.busy} onClick={() => void askThem()}>
              {t("Ask the other side itself")}
            </button>
            {theirs && (
              <span className="flex min-w-0 items-center gap-2" role="status">
                <Mark name={theirs.same ? "serving" : "risk"} />
                <b className="font-semibold whitespace-nowrap">
                  {theirs.same ? t("The same body as ours") : t("Another body than ours")}
                </b>
                <span className="truncate text-ink2">
                  {t(
                    "status {0}, {1}, {2} from {3}",
                    theirs.status,
                    bytes(theirs.response_bytes),
                    took(theirs.ms * 1000),
                    theirs.address,
                  )}
                </span>
              </span>
            )}
          </div>
        )}
        {fine && !reply.trial && may && comparable && (
          <div className="flex h-[38px] items-center border-b border-line px-5">
            <Segments
              label={t("Show")}
              value={compared ? "source" : "answer"}
              onChange={(next) => {
                if (next === "answer") setCompared(undefined);
                else if (!act.busy) void compare();
              }}
              options={[
                { value: "answer", word: t("Answer") },
                { value: "source", word: t("Beside the source") },
              ]}
            />
          </div>
        )}
        {reply.repeats && (
          <p className="border-b border-line px-5 py-2">
            {rich(
              "This request was done before; this is the answer of call {0}.",
              <span className="font-mono text-[12.5px]">{reply.repeats}</span>,
            )}
          </p>
        )}
        {reply.answer && (compared ? <Comparison found={compared} /> : <Answer answer={reply.answer} />)}
        {act.problems.length > 0 && (
          <div className="px-5 py-3">
            <Problems problems={act.problems} />
          </div>
        )}
        {reply.fault && <Fault fault={reply.fault} />}
        {reply.problems.length > 0 && (
          <div className="px-5 py-3">
            <p className="mb-2">
              {rich("The status is {0}, but the content is not as the contract promises.", reply.status)}
            </p>
            <Problems problems={reply.problems} />
          </div>
        )}
      </div>
      <div className="grid min-h-0 grid-cols-2">
        {(
          [
            theirs
              ? ([t("Their answer"), theirs.backend, theirs.response] as const)
              : ([t("Request"), `SOAP ${reply.soap}`, reply.request] as const),
            [theirs ? t("Our response") : t("Response"), "", reply.response],
          ] as const
        ).map(([word, note, source]) => (
          <div key={word} className="flex min-h-0 min-w-0 flex-col border-line first:border-r">
            <h3 className="flex h-[36px] shrink-0 items-center gap-2 border-b border-line px-4">
              <span className="font-semibold">{word}</span>
              <span className="text-xs text-ink2">{note}</span>
              <span className="-mr-2 ml-auto">
                <CopyButton text={source} what={t("the {0}", word.toLowerCase())} />
              </span>
            </h3>
            <Xml source={source} label={word} />
          </div>
        ))}
      </div>
    </section>
  );
}

function Answer({ answer, above = "" }: { answer: Plain; above?: string }) {
  const single = Object.entries(answer).filter(([, value]) => typeof value !== "object" || value === null);
  return (
    <>
      {Object.entries(answer).map(([name, value]) =>
        Array.isArray(value) ? (
          <Rows key={name} name={above + name} items={value} />
        ) : typeof value === "object" && value !== null ? (
          <Inner key={name} name={above + name} value={value as Plain} />
        ) : null,
      )}
      {single.length > 0 && <Pairs name="" pairs={single} />}
    </>
  );
}

/** A record: its own values first, then what it holds. */
function Inner({ name, value }: { name: string; value: Plain }) {
  const single = Object.entries(value).filter(([, one]) => typeof one !== "object" || one === null);
  const more = Object.fromEntries(Object.entries(value).filter(([, one]) => typeof one === "object" && one !== null));
  return (
    <>
      {single.length > 0 && <Pairs name={name} pairs={single} />}
      <Answer answer={more} above={`${name}.`} />
    </>
  );
}

function Pairs({ name, pairs }: { name: string; pairs: [string, unknown][] }) {
  return (
    <div className="px-5 py-2">
      {name && <h3 className="mb-1 font-semibold">{name}</h3>}
      <dl className="grid grid-cols-[repeat(2,max-content_minmax(0,1fr))] gap-x-5 gap-y-0.5">
        {pairs.map(([key, value]) => (
          <div key={key} className="contents">
            <dt className="font-mono text-[12.5px] text-ink2">{key}</dt>
            <dd className="font-mono text-[12.5px] break-all">{cell(value)}</dd>
          </div>
        ))}
      </dl>
    </div>
  );
}

/** Records inside a row by the paths of their parts; what has a text beside attributes stands under its own name. */
function flat(value: Plain, above = ""): Plain {
  return Object.fromEntries(
    Object.entries(value).flatMap(([name, one]) =>
      typeof one === "object" && one !== null && !Array.isArray(one)
        ? Object.entries(flat(one as Plain, `${above}${name}.`))
        : [[above && name === "value" ? above.slice(0, -1) : above + name, one]],
    ),
  );
}

function Rows({ name, items }: { name: string; items: unknown[] }) {
  const rows = items.filter((one): one is Plain => typeof one === "object" && one !== null).map((one) => flat(one));
  const heads = [...new Set(rows.flatMap((one) => Object.keys(one)))];
  const numeric = new Set(
    heads.filter((head) => rows.every((one) => one[head] === undefined || /^-?\d+(\.\d+)?$/.test(cell(one[head])))),
  );
  if (!items.length)
    return (
      <p className="px-5 py-2 text-ink2">
        {rich("{0}: no rows matched.", <span className="font-semibold text-ink">{name}</span>)}
      </p>
    );
  if (!rows.length) return <Pairs name={name} pairs={items.map((one, index) => [String(index + 1), one])} />;
  return (
    <table className="tbl">
      <caption className={name.includes(".") ? "px-5 pt-1.5 pb-0.5 text-left font-semibold" : "sr-only"}>
        {name.includes(".") ? name : `${name}, ${plural(items.length, "row")}`}
      </caption>
      <thead>
        <tr>
          {heads.map((head) => (
            <th key={head} scope="col" className={numeric.has(head) ? "n" : ""}>
              {head}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((row, index) => (
          <tr key={index}>
            {heads.map((head) => (
              <td key={head} className={`font-mono text-[12px] whitespace-nowrap ${numeric.has(head) ? "n" : ""}`}>
                {cell(row[head])}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function cell(value: unknown): string {
  if (value === undefined || value === null) return "";
  return typeof value === "string" ? value : JSON.stringify(value);
}

function Fault({ fault }: { fault: NonNullable<Reply["fault"]> }) {
  return (
    <div className="px-5 py-3">
      <p className="font-semibold">{fault.reason}</p>
      {fault.detail
        .filter((one) => one.name !== "call")
        .map((one, index) => (
          <dl key={index} className="mt-2 grid grid-cols-[96px_minmax(0,1fr)] gap-y-0.5 border-t border-line pt-2">
            {Object.entries(one)
              .filter(([key, value]) => !(key === "name" && value === "problem"))
              .map(([key, value]) => (
                <div key={key} className="contents">
                  <dt className="text-ink2">{key === "name" ? t("detail") : key}</dt>
                  <dd className="font-mono text-[12.5px] break-words">{value}</dd>
                </div>
              ))}
          </dl>
        ))}
    </div>
  );
}
