/**
 * Talking to the management API. Every failure becomes a ProblemError with all causes that the service names. The types of answers are
 * generated from its OpenAPI document (`npm run types`), so what is used here is what really comes.
 */
import type * as Api from "../../generated/schema";
import { t } from "../text";

export class ProblemError extends Error {
  constructor(
    readonly problems: Problem[],
    readonly status: number,
  ) {
    super(problems[0]?.message ?? t("The service does not answer."));
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
    throw new ProblemError(
      [
        {
          code: "client.no-answer",
          kind: "backend",
          message: t("The service does not answer."),
          mend: t("Check that it runs; this page tries again by itself."),
        },
      ],
      0,
    );
  }
  if (!response.ok) {
    let problems: Problem[] = [];
    try {
      problems = ((await response.json()) as { problems?: Problem[] }).problems ?? [];
    } catch {
      // not a problem document: told by its status below
    }
    if (!problems.length)
      problems = [
        {
          code: "client.status",
          kind: "internal",
          message: t("The service answered with status {0}.", response.status),
        },
      ];
    throw new ProblemError(problems, response.status);
  }
  return (response.status === 204 ? undefined : await response.json()) as T;
}

export type Problem = Api.Problem;
export type Person = Api.Who;
export type Figures = Api.Figures;
export type Place = Api.Place;
export type EnvironmentInfo = Api.Environment;
export type ServiceRow = Api.ServiceRow;
export type PoolRow = Api.PoolStatistics;
export type Overview = Api.Overview;
export type ElementShape = Api.Element;
export type OperationShape = Api.Operation;
export type ServiceDetail = Api.ServiceDetail;
export type Finding = Api.Finding;
export type ContractChange = Api.ContractChange;
export type Comparison = Api.Comparison;
export type DeploymentPlan = Api.Plan;
export type PoolSession = Api.PoolSession;
export type PoolView = Api.PoolView;
export type BackendEnd = Api.BackendEnd;
export type CheckResult = Api.CheckResult;
export type Credential = Api.Credential;
export type PlaceGrants = Api.PlaceGrants;
export type Granted = Api.Granted;
export type AuditEntry = Api.AuditEntry;
export type Call = Api.Call;
export type Reply = Api.BenchAnswer;
export type TableRow = Api.TableRow;
export type TableDetail = Api.TableDetail;
export type Drafted = Api.Drafted;
export type RoutineRow = Api.RoutineRow;
export type RoutineDetail = Api.RoutineDetail;
export type AffectedOperation = Api.AffectedOperation;
export type RoutineDrafted = Api.RoutineDrafted;
export type RoutineRenewed = Api.RoutineRenewed;
export type ManyDrafted = Api.ManyDrafted;
export type EngineEntry = Api.EngineEntry;
export type Mends = Api.Mends;
export type ObjectRow = Api.ObjectRow;
export type ObjectDetail = Api.ObjectDetail;
export type KeyPage = Api.Keys;
export type ReadContract = Api.ReadContract;
export type TakenInContract = Api.TakenInContract;
export type TakenContract = Api.TakenContract;
export type ContractCheck = Api.ContractCheck;
export type Implementation = Api.Implementation;
export type OutsideAnswer = Api.OutsideAnswer;
export type Compared = Api.RowComparison;
export type CallerRow = Api.Caller;
export type KindEntry = Api.KindEntry;
export type Source = Api.Source;
export type Hosting = Api.Hosting;
export type Line = Api.FileDifference["lines"][number];
export type Plain = { [name: string]: unknown };
export type WorkflowRow = Api.Workflow;
export type WorkflowLook = Api.WorkflowLook;
export type StepLook = Api.StepLook;
export type FilledPart = Api.FilledPart;
export type FoundProblem = Api.FoundProblem;
export type KnownName = Api.Name;
export type Tried = Api.Tried;
export type DraftRun = Api.DraftRun;
export type Language = Api.Language;
export type Span = Api.Span;
export type CallDetail = Api.CallDetail;
export type Job = Api.Job;
export type JobDetail = Api.JobDetail;
export type JobEntry = Api.JobEntry;
export type JobAct = Job["acts"][number];
export type KeptPackage = Api.KeptPackage;
export type TakenPackage = Api.TakenPackage;
export type PackageMismatch = Api.PackageMismatch;
export type TakenProcess = Api.TakenProcess;
export type CopybookLayouts = Api.Layouts;
export type CopybookLayout = Api.Layout;
export type ItemRow = Api.ItemRow;
export type SpreadRecord = Api.SpreadRecord;
export type SpreadItem = Api.Spread;
export type KeptCopybook = Api.KeptCopybook;
export type TakenCopybook = Api.TakenCopybook;
export type ProgramDraft = Api.ProgramDraft;
export type ContractLine = Api.ContractLine;
export type RequestRow = Api.Request;
export type RequestDetail = Api.RequestDetail;
export type TakenRequest = Api.TakenRequest;
export type SuiteRow = Api.Suite;
export type SuiteDetail = Api.SuiteDetail;
export type SuiteCase = Api.SuiteCase;
export type TestRun = Api.TestRun;
export type TestRunDetail = Api.TestRunDetail;
export type TestResult = Api.TestResult;
export type CaseForms = Api.CaseForms;
export type KeptCase = Api.KeptCase;
export type AffectedCase = Api.AffectedCase;
export type MendedSuite = Api.Mended;
export type DefinitionChange = Api.Change;
export type FormField = Api.FormField;
export type Forms = Api.Forms;
export type KnownNames = Api.KnownNames;
export type DrawnText = Api.Drawn;
export type DrawnRecords = Api.DrawnRecords;
export type SampleMessage = Api.SampleMessage;
