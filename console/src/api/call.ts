/** Calls to the service. Amounts keep every digit: decimals come as LosslessNumber and go back as they came. */
import { LosslessNumber, parse, stringify } from "lossless-json";
import type { components } from "./schema";
import { getCsrf } from "./session";

type Schemas = components["schemas"];
export type RecordType = components["schemas"]["RecordTypeView"];
export type Started = components["schemas"]["StartView"];
export type Meaning = components["schemas"]["MeaningView"];
export type Touched = components["schemas"]["TouchedView"];
export type ItemList = components["schemas"]["ItemPage"];
export type Call = components["schemas"]["CallView"];
export type CallDetail = components["schemas"]["CallDetail"];
export type SpendData = components["schemas"]["SpendView"];
export type KnownList = Schemas["ListView"];
export type KnownListText = Schemas["ListDetail"];
export type Today = Schemas["TodayView"];
export type Waiting = Schemas["WaitingView"];
export type Item = Schemas["ItemView"];
export type ItemPage = Schemas["ItemPage"];
export type ItemDetail = Schemas["ItemDetail"];
export type Run = Schemas["RunView"];
export type Corrected = Schemas["CorrectedView"];
export type Delivery = Schemas["DeliveryView"];
export type TakenBack = Schemas["TakenBackView"];
export type Correction = Schemas["CorrectionView"];
export type EnteredSoFar = Schemas["EnteringView"];
export type HeardSoFar = Schemas["HeardView"];
export type RunDetail = Schemas["RunDetail"];
export type Entry = Schemas["EntryView"];
export type RecordRow = Schemas["RecordRow"];
export type RecordPage = Schemas["RecordPage"];
export type RecordDetail = Schemas["RecordDetail"];
export type Finding = Schemas["FindingView"];
export type Evidence = Schemas["EvidenceView"];
export type Field = Schemas["FieldView"];
export type CheckView = Schemas["CheckView"];
export type Doc = Schemas["DocumentView"];
export type Session = Schemas["SessionView"];
export type Changes = Schemas["ChangesView"];
export type Trial = Schemas["TrialView"];
export type TrialDetail = Schemas["TrialDetail"];
export type TriedDocument = Schemas["TriedDocument"];
export type Reliability = Schemas["Reliability"];
export type WeekFields = Schemas["WeekFields"];
export type FlowRow = Schemas["FlowView"];
export type FlowPage = Schemas["FlowPage"];
export type FlowLine = Schemas["FlowLine"];
export type FlowProblem = Schemas["FlowProblem"];
export type FlowCheck = Schemas["FlowCheck"];
export type RunPage = Schemas["RunPage"];
export type FlowSetting = Schemas["SettingView"];
export type SampleList = Schemas["SampleList"];
export type TriedFlow = Schemas["TriedFlow"];
export type RunValue = Schemas["ValueView"];
export type Question = Schemas["QuestionView"];
export type RecordTypes = Schemas["RecordTypeList"];
export type Connection = Schemas["ConnectionView"];
export type OutsideCalls = Schemas["OutsideCalls"];
export type Mapping = Schemas["MappingView"];
export type MappingList = Schemas["MappingList"];
export type WayIn = Schemas["WayInView"];
export type TriedWay = Schemas["TriedWay"];
export type Shown = Schemas["ShowView"];
export type Described = Schemas["DescribedView"];
export type HeldName = Schemas["HeldName"];
export type ThereNow = Schemas["ThereNowList"];
export type Intake = Schemas["IntakeView"];
export type IntakeList = Schemas["IntakeList"];
export type Preview = Schemas["PreviewView"];
export type LetGo = Schemas["LetGoList"];
export type Address = Schemas["AddressView"];
export type Judged = Schemas["Judged"];
export type JudgedStep = Schemas["JudgedStep"];
export type JudgementList = Schemas["JudgementList"];
export type JudgementRow = Schemas["JudgementRow"];
export type JudgementDetail = Schemas["JudgementDetail"];
export type JudgeAgain = Schemas["JudgeAgainView"];
export type Rejudging = Schemas["RejudgingView"];

/** An error of the service, in its own words (RFC 9457). */
export class ServiceProblem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly findings: Finding[] = [],
  ) {
    super(message);
  }
}

const exact = (digits: string): number | LosslessNumber => (/^-?\d{1,15}$/.test(digits) ? Number(digits) : new LosslessNumber(digits));

/** Ask the service, with a body as JSON or as plain text; the answer is taken to be of the type that its description gives. */
export async function call<T>(method: "GET" | "POST" | "PUT" | "DELETE", path: string, body?: unknown, plain?: string): Promise<T> {
  const headers: Record<string, string> = method === "GET" ? {} : { "X-CSRF-Token": getCsrf() };
  const sent: RequestInit = { method, headers, credentials: "same-origin" };
  if (body !== undefined) {
    headers["Content-Type"] = "application/json";
    sent.body = stringify(body) ?? "";
  } else if (plain !== undefined) {
    headers["Content-Type"] = "text/plain; charset=utf-8";
    sent.body = plain;
  }
  let response: Response;
  try {
    response = await fetch(path, sent);
  } catch {
    throw new ServiceProblem(0, "The service does not answer. Is it running? This page tries again by itself.");
  }
  const text = await response.text();
  const data: unknown = text ? parse(text, undefined, exact) : {};
  if (!response.ok) {
    const problem = data as { detail?: string; findings?: Finding[] };
    throw new ServiceProblem(response.status, problem.detail ?? `The service answered ${response.status}.`, problem.findings ?? []);
  }
  return data as T;
}

/** A query string of what is set. */
export function query(values: Record<string, string | number | undefined>): string {
  const pairs = Object.entries(values).filter(([, value]) => value !== undefined && value !== "");
  return pairs.length ? `?${new URLSearchParams(pairs.map(([name, value]) => [name, String(value)])).toString()}` : "";
}
