/** Talking to the management API. Every failure becomes a ProblemError with all causes that the service names. */

export interface Problem {
  code: string; message: string; kind: string; place?: string; expected?: string; found?: string; inner?: string; mend?: string;
}

export class ProblemError extends Error {
  constructor(readonly problems: Problem[], readonly status: number) {
    super(problems[0]?.message ?? "The service does not answer.");
  }
}

export async function ask<T>(method: string, path: string, body?: unknown): Promise<T> {
  let response: Response;
  try {
    response = await fetch(`/api/v1${path}`, {
      method,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? null : JSON.stringify(body),
    });
  } catch {
    throw new ProblemError([{ code: "client.no-answer", kind: "backend", message: "The service does not answer.",
      mend: "Check that it runs; this page tries again by itself." }], 0);
  }
  if (!response.ok) {
    let problems: Problem[] = [];
    try {
      problems = ((await response.json()) as { problems?: Problem[] }).problems ?? [];
    } catch {
      // not a problem document: told by its status below
    }
    if (!problems.length) problems = [{ code: "client.status", kind: "internal", message: `The service answered with status ${response.status}.` }];
    throw new ProblemError(problems, response.status);
  }
  return (response.status === 204 ? undefined : await response.json()) as T;
}

export interface Person { name: string; role: string; organisation: string }

export interface Figures { calls: number; faults: number; p95_micros: number; slices: [number, number][] }

export interface Place {
  environment: string; protected: boolean; state: "serving" | "faulting" | "not deployed"; anonymous: boolean;
  release?: number; since?: string; by?: string; newest?: boolean; reason?: string;
  soap?: string; wsdl?: string; rest?: string; figures?: Figures | null;
}

export interface EnvironmentInfo { name: string; description: string; follows: string; protected: boolean; address: string }

export interface ServiceRow {
  name: string; description: string; backends: string[]; draft: "edited" | "released" | "removed"; newest: number | null;
  deployments: Place[];
}

export interface PoolRow { environment: string; backend: string; size: number; idle: number; waiting: number; max_size: number }

export interface Overview {
  now: number; organisation: string; environments: EnvironmentInfo[]; services: ServiceRow[]; pools: PoolRow[];
}

export interface ElementShape {
  name: string; type: string; description: string; unit: string; required: boolean; list: boolean; least: number; most: number | null;
  base?: string; rule?: string; codes?: string[]; default?: string | null; sample?: string | null; elements?: ElementShape[];
}

export interface OperationShape {
  name: string; description: string; input: ElementShape[]; output: ElementShape[];
  faults: { name: string; description: string; elements: ElementShape[] }[];
  roles?: string[]; runs?: string; kept_inside?: Record<string, string>;
}

export interface ServiceDetail {
  name: string; description: string; owner: string; namespace: string; draft: "edited" | "released" | "removed";
  releases: { number: number; author: string; at: string; notes: string; digest: string }[];
  deployments: Place[];
  history: { environment: string; release: number; author: string; at: string; ended_at: string | null }[];
  operations: OperationShape[]; problems: Problem[];
}

export interface Finding extends Problem { severity: "error" | "warning" | "hint" }

export interface Call {
  id: string; at: number; environment: string; service: string; release: number; operation: string; caller: string; face: string;
  status: number; micros: number; result: "answered" | "fault" | "failed"; fault: string; message: string;
  request_bytes: number; response_bytes: number;
}

export type Plain = { [name: string]: unknown };

export interface Reply {
  caller: string; soap: string; status: number; ms: number; call: string; request: string; request_bytes: number;
  response: string; response_bytes: number; answer: Plain | null;
  fault: { code: string; reason: string; detail: Record<string, string>[] } | null; problems: Problem[];
}

export interface CallerRow { name: string; description: string; roles: string[] }
