/** What a step of each kind says: what it calls, what it takes, what it sets. */
import type { Language } from "../../api";
import { rich, t } from "../../text";
import { Branches, Handlers, Lanes } from "./branches";
import { Collect } from "./collect";
import { Switch, Expression, Field, Rows, Wrong } from "./fields";
import { Filling } from "./filling";
import { numeric, type PartsProps } from "./putting";
import { actionOf, textOf } from "./tree";

type Tree = Record<string, unknown>;

export function Parts(props: PartsProps) {
  const { step, put, look, about, language, around } = props;
  const text = (key: string) => textOf(step[key]);
  const whole = (key: string) => numeric(text(key));
  const expression = (key: string, label: string, placeholder = "") => (
    <Expression
      label={label}
      value={text(key)}
      part={key}
      around={around}
      placeholder={placeholder}
      onChange={(value) => put({ [key]: value })}
    />
  );
  const number = (key: string, label: string) => (
    <Field label={label}>
      {(id) => (
        <input
          id={id}
          className="field"
          inputMode="numeric"
          value={String(whole(key) ?? "")}
          readOnly={!around.may}
          onChange={(event) => put({ [key]: numeric(event.target.value) })}
        />
      )}
    </Field>
  );
  const choice = (key: string, label: string, offered: readonly string[]) => (
    <Field label={label}>
      {(id) => (
        <>
          <input
            id={id}
            className="field font-mono text-[12.5px]"
            list={`${id}-of`}
            value={text(key)}
            readOnly={!around.may}
            onChange={(event) => put({ [key]: event.target.value })}
          />
          <datalist id={`${id}-of`}>
            {offered.map((one) => (
              <option key={one} value={one} />
            ))}
          </datalist>
          <Wrong problems={around.problems} part={key} />
        </>
      )}
    </Field>
  );
  const map = (key: string, part: string, title: string) => (
    <Filling
      title={title}
      part={part}
      parts={about?.maps[part] ?? []}
      tree={(step[key] ?? {}) as Tree}
      around={around}
      onChange={(tree) => put({ [key]: tree })}
    />
  );
  switch (actionOf(step)) {
    case "call":
      return (
        <>
          {choice("call", t("Calls"), language?.offers.map((one) => one.call) ?? [])}
          <Offer call={text("call")} language={language} />
          {text("call").startsWith("http ") ? (
            <Address {...props} />
          ) : (
            <>
              {map("input", "input", t("Input of {0}", text("call") || "…"))}
              <UndoPart {...props} />
            </>
          )}
          {!about?.writes && (
            <div className="grid grid-cols-2 gap-2">
              {number("tries", t("Tries"))}
              {number("pause", t("Seconds between"))}
            </div>
          )}
          {about?.writes && (
            <Switch
              on={step.repeatable === true}
              may={around.may}
              word={t("In a job, it may be done again when it was cut off")}
              onChange={(on) => put({ repeatable: on || undefined })}
            />
          )}
          {about && about.faults.length > 0 && (
            <p className="text-xs text-ink2">{rich("May end with {0}", about.faults.join(", "))}</p>
          )}
        </>
      );
    case "set":
      return (
        <Rows
          rows={(step.set ?? {}) as Tree}
          around={around}
          part=""
          words={{ name: t("Name"), value: t("is"), add: t("Set one more") }}
          onChange={(rows) => put({ set: rows })}
        />
      );
    case "when":
      return <Branches {...props} />;
    case "for_each":
      return (
        <>
          {expression("for_each", t("For each item of"))}
          <div className="grid grid-cols-4 gap-2">
            <Named field="item" label={t("Item is called")} {...props} />
            <Named field="index" label={t("Its number")} {...props} />
            {number("at_once", t("At once"))}
            {number("at_most", t("At most"))}
          </div>
          <Collect value={step.collect} part="collect" around={around} onChange={(collect) => put({ collect })} />
          <Handlers {...props} />
        </>
      );
    case "repeat_while":
      return (
        <>
          {expression("repeat_while", t("Again while"))}
          <div className="w-32">{number("at_most", t("Rounds at most"))}</div>
        </>
      );
    case "parallel":
      return <Lanes {...props} />;
    case "attempt":
      return <Handlers {...props} />;
    case "session":
      return choice("session", t("A session to"), []);
    case "reply":
      return map("reply", "reply", t("The answer"));
    case "fail":
      return (
        <>
          {choice("fail", t("Declared fault"), [...look.faults, "problem"])}
          {expression("message", t("Message"), t("its description"))}
          {map("detail", "detail", t("Its detail"))}
        </>
      );
    case "note":
      return expression("note", t("Line in the trace"));
    case "wait":
      return expression("wait", t("Seconds, or a duration"));
    default:
      return (
        <>
          {choice("write_file" in step ? "write_file" : "read_file", t("Folder"), [])}
          {expression("path", t("Path in it"))}
          {"write_file" in step && expression("text", t("Text"))}
        </>
      );
  }
}

function Offer({ call, language }: { call: string; language: Language | undefined }) {
  const found = language?.offers.find((one) => one.call === call);
  if (!found?.description) return null;
  return (
    <p className="mb-2 text-xs text-ink2">
      {found.description} {found.writes && t("It writes.")}
    </p>
  );
}

function Named({ field, label, step, put, around }: { field: string; label: string } & PartsProps) {
  return (
    <Field label={label}>
      {(id) => (
        <input
          id={id}
          className="field font-mono text-[12.5px]"
          value={textOf(step[field])}
          readOnly={!around.may}
          onChange={(event) => put({ [field]: event.target.value })}
        />
      )}
    </Field>
  );
}

function Address({ step, put, around }: PartsProps) {
  const body = step.body;
  return (
    <>
      <div className="grid grid-cols-[96px_minmax(0,1fr)_120px] gap-2">
        <Field label={t("Method")}>
          {(id) => (
            <input
              id={id}
              className="field"
              list={`${id}-of`}
              value={textOf(step.method)}
              placeholder={body ? "POST" : "GET"}
              readOnly={!around.may}
              onChange={(event) => put({ method: event.target.value.toUpperCase() })}
            />
          )}
        </Field>
        <Expression
          label={t("Path below the address")}
          value={textOf(step.path)}
          part="path"
          around={around}
          onChange={(path) => put({ path })}
        />
        <Field label={t("Answer is a")}>
          {(id) => (
            <>
              <input
                id={id}
                className="field font-mono text-[12.5px]"
                value={textOf(step.gives)}
                placeholder={t("record")}
                readOnly={!around.may}
                onChange={(event) => put({ gives: event.target.value })}
              />
              <Wrong problems={around.problems} part="gives" />
            </>
          )}
        </Field>
      </div>
      <Collect
        title={t("Body, as JSON")}
        value={body}
        part="body"
        around={around}
        onChange={(next) => put({ body: next })}
      />
    </>
  );
}

function UndoPart({ step, put, around, language, about }: PartsProps) {
  const undo = step.undo as { call?: string; input?: Tree } | undefined;
  if (!undo)
    return around.may && about?.writes ? (
      <button type="button" className="act mb-2 text-xs" onClick={() => put({ undo: { call: "" } })}>
        {t("Say what undoes it")}
      </button>
    ) : null;
  return (
    <div className="mb-3 border-l-2 border-warn pl-3">
      <Field label={t("Undone by")}>
        {(id) => (
          <>
            <input
              id={id}
              className="field font-mono text-[12.5px]"
              list={`${id}-of`}
              value={undo.call ?? ""}
              readOnly={!around.may}
              onChange={(event) =>
                put({ undo: event.target.value ? { ...undo, call: event.target.value } : undefined })
              }
            />
            <datalist id={`${id}-of`}>
              {language?.offers.map((one) => (
                <option key={one.call} value={one.call} />
              ))}
            </datalist>
            <Wrong problems={around.problems} part="undo.call" />
          </>
        )}
      </Field>
      <Filling
        title={t("Input of what undoes it")}
        part="undo, input"
        parts={about?.maps["undo, input"] ?? []}
        tree={undo.input ?? {}}
        around={around}
        onChange={(input) => put({ undo: { ...undo, input } })}
      />
    </div>
  );
}
