/** States as one small shape on a post: shape first, colour second, word third. */
import type { ReactNode } from "react";
import { t } from "../text";

export type MarkName = "serving" | "warm" | "drain" | "risk" | "fault" | "moving" | "stopped" | "draft" | "none";

const POST = <path d="M6 8.6V16" stroke="currentColor" strokeWidth="1.6" />;
const SHAPES: Record<MarkName, { colour: string; shape: ReactNode }> = {
  serving: {
    colour: "text-ok",
    shape: (
      <>
        <circle cx="6" cy="4.6" r="4.1" fill="currentColor" />
        {POST}
      </>
    ),
  },
  warm: {
    colour: "text-ok",
    shape: (
      <>
        <circle cx="6" cy="4.6" r="3.4" fill="none" stroke="currentColor" strokeWidth="1.6" />
        {POST}
      </>
    ),
  },
  drain: {
    colour: "text-warn",
    shape: (
      <>
        <path d="M1.2 .9h9.6L6 9.2Z" fill="none" stroke="currentColor" strokeWidth="1.5" />
        {POST}
      </>
    ),
  },
  risk: {
    colour: "text-warn",
    shape: (
      <>
        <path d="M6 .2 11.8 10H.2Z" fill="currentColor" />
        <path d="M6 3.6v3M6 7.6v1.3" stroke="var(--sheet)" strokeWidth="1.5" />
        {POST}
      </>
    ),
  },
  fault: {
    colour: "text-bad",
    shape: (
      <>
        <path d="M2.3 1.1 9.7 8.3M9.7 1.1 2.3 8.3" stroke="currentColor" strokeWidth="2.5" strokeLinecap="square" />
        {POST}
      </>
    ),
  },
  moving: {
    colour: "text-accent",
    shape: (
      <>
        <path d="M6 .3 10.7 4.8 6 9.3 1.3 4.8Z" fill="none" stroke="currentColor" strokeWidth="1.5" />
        <path d="M6 .3 10.7 4.8 6 9.3Z" fill="currentColor" />
        {POST}
      </>
    ),
  },
  stopped: {
    colour: "text-hold",
    shape: (
      <>
        <rect x="2.1" y="1.1" width="7.8" height="7.4" fill="none" stroke="currentColor" strokeWidth="1.6" />
        {POST}
      </>
    ),
  },
  draft: {
    colour: "text-hold",
    shape: <circle cx="6" cy="7" r="4" fill="none" stroke="currentColor" strokeWidth="1.5" strokeDasharray="2.4 1.8" />,
  },
  none: { colour: "text-hold", shape: <path d="M2.5 8h7" stroke="currentColor" strokeWidth="1.6" /> },
};

/** `label` only where no word stands beside it. */
export function Mark({ name, label, className = "" }: { name: MarkName; label?: string; className?: string }) {
  const { colour, shape } = SHAPES[name];
  return (
    <svg
      className={`mark ${colour} ${className}`}
      viewBox="0 0 12 16"
      {...(label ? { role: "img", "aria-label": label } : { "aria-hidden": true })}
    >
      {shape}
    </svg>
  );
}

export const STATE_MARK: Record<string, MarkName> = {
  serving: "serving",
  faulting: "fault",
  "not deployed": "draft",
  "at risk": "risk",
  asleep: "warm",
  stopped: "stopped",
  retired: "drain",
  closed: "serving",
  open: "fault",
  "half-open": "moving",
  "in use": "serving",
  warm: "warm",
  opening: "moving",
  checking: "moving",
  resetting: "moving",
  draining: "drain",
  compatible: "serving",
  "compatible for readers": "risk",
  breaking: "fault",
  passed: "serving",
  "left out": "warm",
  ended: "serving",
  "broken off": "fault",
  skipped: "none",
  "not tried": "stopped",
  "edited, not released": "draft",
  "released, not live": "warm",
  live: "serving",
  removed: "none",
  "removed, still live": "risk",
  answered: "serving",
  waiting: "draft",
  running: "moving",
  done: "serving",
  cancelled: "stopped",
  "outcome unknown": "fault",
  "ended by hand": "none",
  fault: "risk",
  failed: "fault",
  error: "fault",
  warning: "risk",
  hint: "none",
};

export function EnvTag({ name, isProtected }: { name: string; isProtected: boolean }) {
  return <span className={`env ${isProtected ? "env-protected" : ""}`}>{name}</span>;
}

export function Gate({ open }: { open: boolean }) {
  return open ? (
    <svg className="shrink-0" width="26" height="46" viewBox="0 -4 26 46" role="img" aria-label={t("gate open")}>
      <path d="M5 5h16M5 31h16" stroke="var(--ok)" strokeWidth="3" strokeLinecap="round" />
      <path
        d="M8 18h9m-4-4 4 4-4 4"
        fill="none"
        stroke="var(--ok)"
        strokeWidth="1.6"
        strokeLinecap="round"
        strokeLinejoin="round"
      />
      <path d="M0 40.5h26" stroke="var(--water)" strokeWidth="3" />
    </svg>
  ) : (
    <svg className="shrink-0" width="26" height="46" viewBox="0 -4 26 46" role="img" aria-label={t("gate closed")}>
      <path
        d="M9 4 18 18 9 32"
        fill="none"
        stroke="var(--warn)"
        strokeWidth="3"
        strokeLinecap="round"
        strokeLinejoin="round"
      />
      <path d="M0 40.5h9M18 40.5h8" stroke="var(--water)" strokeWidth="3" />
    </svg>
  );
}

export function Logo() {
  return (
    <svg width="22" height="24" viewBox="0 0 22 24" aria-hidden="true">
      <path
        d="M11 1.2V23M4.2 4.2 9.2 23M17.8 4.2 12.8 23"
        stroke="var(--ink)"
        strokeWidth="2.6"
        strokeLinecap="round"
      />
      <path d="M4.6 11.2h12.8v3.4H4.6z" fill="var(--band)" />
    </svg>
  );
}

/** How full a pool is: in use solid, warm thin, the rest empty. */
export function Gauge({ used, warm, most, bad }: { used: number; warm: number; most: number; bad: boolean }) {
  const full = used / Math.max(1, most) >= 0.9;
  return (
    <svg
      width="72"
      height="8"
      viewBox="0 0 72 8"
      role="img"
      aria-label={t("{0} in use, {1} warm, at most {2}", used, warm, most)}
      className="shrink-0"
    >
      <rect x="0.5" y="0.5" width="71" height="7" fill="none" stroke="var(--edge)" />
      <rect
        x="1"
        y="1"
        width={(70 * Math.min(used, most)) / Math.max(1, most)}
        height="6"
        fill={bad ? "var(--bad)" : full ? "var(--warn)" : "var(--post)"}
      />
      <rect
        x={1 + (70 * Math.min(used, most)) / Math.max(1, most)}
        y="2.5"
        width={(70 * Math.min(warm, most - used)) / Math.max(1, most)}
        height="3"
        fill="var(--water)"
      />
    </svg>
  );
}

/** Bars on a waterline; faults stand on top, parted by a gap. */
export function Posts({
  slices,
  height,
  label,
  width = 2,
  gap = 1,
}: {
  slices: [number, number][];
  height: number;
  label: string;
  width?: number;
  gap?: number;
}) {
  const most = Math.max(1, ...slices.map(([calls]) => calls));
  const span = slices.length * (width + gap) - gap;
  return (
    <svg
      width={span}
      height={height}
      viewBox={`0 0 ${span} ${height}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={label}
      className="block max-w-full overflow-visible"
    >
      {slices.map(([calls, faults], index) => {
        if (!calls) return null;
        const x = index * (width + gap);
        const whole = Math.max(1.5, (calls / most) * (height - 2));
        const bad = faults ? Math.max(1.5, (faults / calls) * whole) : 0;
        const good = faults < calls ? Math.max(0, whole - bad - (bad ? 1.5 : 0)) : 0;
        return (
          <g key={index}>
            {good > 0 && <rect x={x} y={height - 1 - good} width={width} height={good} fill="var(--post)" />}
            {bad > 0 && <rect x={x - 0.5} y={height - 1 - whole} width={width + 1} height={bad} fill="var(--bad)" />}
          </g>
        );
      })}
      <rect x="0" y={height - 1} width={span} height="1" fill="var(--water)" />
    </svg>
  );
}
