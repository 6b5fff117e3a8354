/** Fields drawn from an operation's input. Values stay text, right or wrong: the service is the judge. */
import { Plus, X } from "lucide-react";
import type { ElementShape, Plain } from "../api";
import { Select } from "../parts/controls";
import { PickKey } from "./picker";
import { rich, t } from "../text";

interface Part {
  elements: ElementShape[];
  values: Plain;
  onChange: (values: Plain) => void;
  path?: string;
}

export function Form({ elements, values, onChange, path = "" }: Part) {
  const set = (name: string, value: unknown) => {
    const next = { ...values };
    if (value === "" || value === undefined) delete next[name];
    else next[name] = value;
    onChange(next);
  };
  if (!elements.length) return <p className="text-ink2">{t("This operation takes no input.")}</p>;
  return elements.map((one) => {
    const id = `in${path}-${one.name}`;
    if (one.list)
      return (
        <List
          key={one.name}
          element={one}
          id={id}
          items={asList(values[one.name])}
          path={path}
          onChange={(items) => set(one.name, items.length ? items : undefined)}
        />
      );
    if (one.elements)
      return (
        <fieldset key={one.name} className="border-t border-line pt-2">
          <legend className="sr-only">{one.name}</legend>
          <Name element={one} />
          <div className="mt-1 flex flex-col gap-2 border-l border-line pl-4">
            <Form
              elements={one.elements}
              values={(values[one.name] as Plain | undefined) ?? {}}
              onChange={(inner) => set(one.name, inner)}
              path={`${path}-${one.name}`}
            />
          </div>
        </fieldset>
      );
    return (
      <div key={one.name} className="grid grid-cols-[118px_minmax(0,1fr)] items-start gap-x-3">
        <label htmlFor={id} className="pt-1">
          <Name element={one} />
        </label>
        <div>
          {one.nillable && (
            <label
              className="float-right mt-1.5 ml-2 flex items-center gap-1 text-xs text-ink2"
              title={t("Send nil: the field is emptied")}
            >
              {rich(
                "{0}empty",
                <input
                  type="checkbox"
                  aria-label={t("Empty {0}", one.name)}
                  checked={values[one.name] === null}
                  onChange={(event) => set(one.name, event.target.checked ? null : undefined)}
                />,
              )}
            </label>
          )}
          <Field
            element={one}
            id={id}
            path={path}
            value={asText(values[one.name])}
            onChange={(value) => set(one.name, value)}
          />
          <p id={`${id}-hint`} className="mt-0.5 text-xs leading-[15px] text-ink3">
            {[one.description, one.rule].filter(Boolean).join("; ")}
          </p>
        </div>
      </div>
    );
  });
}

function Name({ element }: { element: ElementShape }) {
  return (
    <>
      <span className="font-mono text-[12.5px] break-all">{element.name}</span>
      {element.label && element.label.toLowerCase() !== element.name.toLowerCase() && (
        <span className="block text-xs leading-[14px] text-ink2">
          {element.labels?.[navigator.language.slice(0, 2)] ?? element.label}
        </span>
      )}
      {!element.required && <span className="block text-xs leading-[14px] text-ink3">{t("optional")}</span>}
    </>
  );
}

function Field({
  element,
  id,
  path,
  value,
  onChange,
}: {
  element: ElementShape;
  id: string;
  path: string;
  value: string;
  onChange: (value: string) => void;
}) {
  if (element.codes?.length)
    return (
      <Select
        id={id}
        label={element.name}
        mono
        value={value}
        onChange={onChange}
        placeholder={element.required ? t("choose") : t("left out")}
        options={[
          ...(element.required ? [] : [{ value: "", word: t("left out") }]),
          ...element.codes.map((code) => ({ value: code, word: code })),
        ]}
      />
    );
  return (
    <div className="flex items-center gap-2">
      <input
        id={id}
        className="field font-mono text-[12.5px]!"
        aria-describedby={`${id}-hint`}
        value={value}
        onChange={(event) => onChange(event.target.value)}
        placeholder={element.default ?? ""}
        autoComplete="off"
        spellCheck={false}
      />
      {element.unit && <span className="shrink-0 text-ink2">{element.unit}</span>}
      <PickKey
        element={element}
        path={[...path.split("-").filter((part) => part && !/^\d+$/.test(part)), element.name].join(".")}
        onPick={onChange}
      />
    </div>
  );
}

function List({
  element,
  id,
  path,
  items,
  onChange,
}: {
  element: ElementShape;
  id: string;
  path: string;
  items: unknown[];
  onChange: (items: unknown[]) => void;
}) {
  const inner: ElementShape = { ...element, list: false, name: element.name };
  return (
    <fieldset className="border-t border-line pt-2">
      <legend className="sr-only">{element.name}</legend>
      <div className="mb-1 flex items-center">
        <Name element={element} />
        <button
          type="button"
          className="act ml-auto inline-flex items-center gap-1"
          onClick={() => onChange([...items, element.elements ? {} : ""])}
        >
          {rich("{0}Add", <Plus size={14} />)}
        </button>
      </div>
      {items.map((item, index) => (
        <div key={index} className="mb-2 grid grid-cols-[minmax(0,1fr)_28px] gap-1">
          {element.elements ? (
            <div className="flex flex-col gap-2">
              <Form
                elements={element.elements}
                values={item as Plain}
                path={`${path}-${element.name}-${index}`}
                onChange={(next) => onChange(items.map((old, at) => (at === index ? next : old)))}
              />
            </div>
          ) : (
            <Field
              element={inner}
              id={`${id}-${index}`}
              path={path}
              value={asText(item)}
              onChange={(next) => onChange(items.map((old, at) => (at === index ? next : old)))}
            />
          )}
          <button
            type="button"
            className="ibtn"
            aria-label={t("Remove {0} {1}", element.name, index + 1)}
            title={t("Remove {0} {1}", element.name, index + 1)}
            onClick={() => onChange(items.filter((_, at) => at !== index))}
          >
            <X size={16} />
          </button>
        </div>
      ))}
    </fieldset>
  );
}

function asText(value: unknown): string {
  return typeof value === "string"
    ? value
    : typeof value === "number" || typeof value === "boolean"
      ? String(value)
      : "";
}

function asList(value: unknown): unknown[] {
  return Array.isArray(value) ? value : value === undefined ? [] : [value];
}
