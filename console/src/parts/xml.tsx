/** Read-only XML with its own tokenizer. Copy takes the exact bytes, not the view. */
import { Fragment, useMemo, type ReactNode } from "react";

const TOKEN = /<!--[\s\S]*?-->|<\?[\s\S]*?\?>|<\/?[^\s/>]+|\/?>|[^\s=<>]+(?==")|"[^"]*"/g;

/** XML on one line is shown indented by one; what already has lines is shown as it is. */
export function pretty(source: string): string {
  const body = source.replace(/^(<\?xml[^>]*\?>)\s*/, "$1\n");
  const head = body.startsWith("<?xml") ? body.indexOf("\n") + 1 : 0;
  if (/>\s*\n\s*</.test(body.slice(head))) {
    const text = source.trimEnd();
    const evenOnly = !/\n(?: {2})* </.test(text);
    return evenOnly ? text.replace(/^(?: {2})+/gm, (space) => " ".repeat(space.length / 2)) : text;
  }
  let depth = 0;
  const lines: string[] = [];
  for (const part of body.slice(head).split(/(?<=>)(?=<)/)) {
    if (part.startsWith("</")) depth--;
    lines.push(" ".repeat(Math.max(0, depth)) + part);
    if (/^<[^/!?]/.test(part) && !part.endsWith("/>") && !/<\/[^>]+>$/.test(part)) depth++;
  }
  return body.slice(0, head) + lines.join("\n");
}

function tokens(line: string): ReactNode[] {
  const parts: ReactNode[] = [];
  let at = 0;
  let inTag = false;
  for (const found of line.matchAll(TOKEN)) {
    const text = found[0];
    if (found.index > at) parts.push(line.slice(at, found.index));
    at = found.index + text.length;
    if (text.startsWith("<!--") || text.startsWith("<?")) parts.push(<u>{text}</u>);
    else if (text.startsWith("<")) {
      inTag = true;
      const sign = text.startsWith("</") ? "</" : "<";
      parts.push(<u>{sign}</u>, <b>{text.slice(sign.length)}</b>);
    } else if (text.endsWith(">")) {
      inTag = false;
      parts.push(<u>{text}</u>);
    } else parts.push(inTag && !text.startsWith('"') ? <i>{text}</i> : text);
  }
  parts.push(line.slice(at));
  return parts;
}

const MOST_LINES = 2000;

export function Xml({ source, label }: { source: string; label: string }) {
  const lines = useMemo(() => pretty(source).split("\n").slice(0, MOST_LINES), [source]);
  const shown = useMemo(
    () =>
      lines.map((line, index) => (
        <Fragment key={index}>
          {tokens(line).map((part, at) => (
            <Fragment key={at}>{part}</Fragment>
          ))}
          {"\n"}
        </Fragment>
      )),
    [lines],
  );
  return (
    // The pane scrolls, so it must be reachable by keyboard.
    <div
      role="region"
      aria-label={label}
      // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- see above
      tabIndex={0}
      className="grid min-h-0 grow grid-cols-[max-content_minmax(0,1fr)] gap-2.5 overflow-auto bg-inset px-2 py-2"
    >
      <pre className="lnum" aria-hidden="true">
        {lines.map((_, index) => index + 1).join("\n")}
      </pre>
      <pre className="xml">{shown}</pre>
    </div>
  );
}
