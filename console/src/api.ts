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
  version: number; segment: string; ends?: string; parts?: { release: number; share: number; since: string }[];
  release?: number; since?: string; by?: string; newest?: boolean; reason?: string;
  soap?: string; wsdl?: string; rest?: string; figures?: Figures | null;
}

export interface EnvironmentInfo { name: string; description: string; follows: string; protected: boolean; address: string }

export interface ServiceRow {
  name: string; description: string; backends: string[]; draft: "edited" | "released" | "removed"; newest: number | null; stage: string; group: string;
  deployments: Place[];
}

export interface PoolRow { environment: string; backend: string; state: string; pool_size: number; pool_available: number; requests_waiting: number; pool_max: number }

export interface Overview {
  now: number; organisation: string; environments: EnvironmentInfo[]; services: ServiceRow[]; pools: PoolRow[];
}

export interface ElementShape {
  name: string; label?: string; type: string; description: string; unit: string; required: boolean; list: boolean; least: number; most: number | null;
  labels?: Record<string, string>; sensitive?: boolean; nillable?: boolean; key_of?: string;
  base?: string; rule?: string; codes?: string[]; default?: string | null; sample?: string | null; elements?: ElementShape[];
}

export interface OperationShape {
  name: string; description: string; writes: boolean; input: ElementShape[]; output: ElementShape[];
  faults: { name: string; description: string; elements: ElementShape[] }[];
  roles?: string[]; runs?: string; kept_inside?: Record<string, string>;
}

export interface ServiceDetail {
  name: string; description: string; owner: string; namespace: string; draft: "edited" | "released" | "removed";
  stage: string; version: number; path: string;
  releases: { number: number; version: number; author: string; at: string; notes: string; digest: string; consent: string }[];
  deployments: Place[];
  history: { environment: string; release: number; share: number; how: string; reason: string; author: string; at: string; ended_at: string | null }[];
  operations: OperationShape[]; problems: Problem[];
}

export interface Finding extends Problem { severity: "error" | "warning" | "hint"; mendable: boolean; command: string }

export type Line = [sign: "+" | "-" | " " | "…", old: number | null, next: number | null, text: string];

export interface ContractChange {
  verdict: string; rule: string; operation: string; place: string; message: string; before: string; after: string; callers: string[];
}

export interface Comparison {
  service: string; verdict: string; changes: ContractChange[]; contract: Line[];
  old: { label: string; release: number | null; version: number }; new: { label: string; release: number | null; version: number };
  callers: { caller: string; calls: number; last: number; operations: string[]; verdict: string }[];
  definitions: { path: string; action: string; lines: Line[] }[];
}

export interface DeploymentPlan {
  release: number; version: number; replaces: number | null; uses: { backend: string; state: string }[];
  gates: { name: string; outcome: "open" | "closed" | "consent"; consent: string; problems: Problem[]; findings: Finding[] }[];
}

export interface PoolSession {
  session: number; endpoint: string; identity: string; state: string; age: number; expires_in: number; uses: number;
  operation: string; caller: string; call: string; held_for: number | null;
}

export interface PoolView {
  environment: string; protected: boolean; backend: string; state: string; services: string[]; credential: string; advice: string[];
  advised_size: number | null; backend_limit: number | null; effective: string;
  statistics: { pool_min: number; pool_max: number; pool_size: number; pool_available: number; requests_waiting: number; requests_num: number;
    requests_queued: number; requests_wait_ms: number; requests_errors: number; connections_lost: number };
  settings: { min_size: number; max_size: number; max_idle: number; max_lifetime: number; timeout: number; connect_timeout: number; sleep_after: number | null };
  endpoints: { endpoint: string; address: string; priority: number; weight: number; circuit: string; sessions: number; connect_ms: number;
    connect_errors: number; lost: number; reason: string; checked_ago: number | null }[];
  sessions: PoolSession[]; load: { arrivals_per_second: number; held_ms: number; calls: number };
}

export interface BackendEnd {
  backend: string; engine: string; environment: string; protected: boolean; bound: boolean; endpoints: string[]; credential: string; pool: string; services: string[];
}

export interface CheckResult {
  environment: string; backend: string; endpoint: string; address?: string; passed: boolean;
  stages: { stage: string; outcome: string; detail: string; ms: number; problem: Problem | null }[];
}

export interface Credential {
  name: string; kind: string; user: string; description: string; expires_at: string | null; last_used_at: string | null; rotated_at: string | null;
  rotated_by: string; overlap_until: string | null; used_by: { environment: string; backend: string }[];
}

export interface AuditEntry { id: number; at: string; who: string; action: string; subject: string; before: unknown; after: unknown }

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
  trial: string; repeats: string; changes: { object: string; action: string; key: Record<string, string>; fields: Record<string, { before: string | null; after: string | null }> }[];
}

export interface TableRow { name: string; kind: string; comment: string; rows: number | null; exact: boolean; columns: string[]; key: string[]; reasons: string[]; used: string[] }

export interface TableDetail extends Omit<TableRow, "columns"> {
  key_from: string;
  columns: { name: string; declared: string; type: string; required: boolean; default: string; filled: boolean; comment: string; codes: string[]; codes_from: string }[];
  foreign_keys: { columns: string[]; table: string; targets: string[] }[];
  children: { table: string; columns: string[]; targets: string[]; rows: number | null; reasons: string[] }[];
}

export interface ObjectRow { name: string; backend: string; table: string; description: string; fields: number; services: { service: string; operations: { name: string; verb: string }[] }[] }

export interface ObjectDetail {
  name: string; definition: Plain; columns: Record<string, string>; rules: Record<string, string>; problems: Problem[]; types: string[]; revision: number; path: string;
  services: ObjectRow["services"]; all_services: string[]; verbs: string[];
}

export interface KeyPage { object: string; key: string; columns: string[]; rows: Record<string, string>[]; more: boolean }

export interface Compared {
  object: string; table: string; side: string; ordered: boolean | null; deleted: boolean; equal: boolean;
  rows: { key: string; found: boolean; note: string; fields: { field: string; column: string; reply: string | null; stored: string | null; equal: boolean | null }[] }[];
}

export interface CallerRow {
  name: string; description: string; roles: string[]; networks: string[]; per_minute: number | null; parallel: number | null;
  tokens: { prefix: string; created_at: string; expires_at: string | null; last_used_at: string | null }[];
}
