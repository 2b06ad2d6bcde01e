/** What the page of a flow shows beside its steps. */
import type { FlowLine, FlowProblem, RunValue, TriedFlow } from "../../api/call";
import { shown } from "../../parts/words";

/** Whether a flow is on, off or paused: in a word, with a sign. */
export function standing(flow: { running: boolean; paused?: boolean }): { word: string; sign: string; tone: string } {
  if (!flow.running) return { word: "off", sign: "–", tone: "" };
  return flow.paused ? { word: "paused", sign: "‖", tone: "person" } : { word: "on", sign: "✓", tone: "good" };
}

const MOST = 4;
const DULL = /^([0-9a-f]{64}|[0-9a-z]{26})$/; // hashes and ids: nothing that a person reads
const ASIDE = new Set(["key", "record_type", "version", "table", "code"]);

/** What a step gave, in a few words: the first values under its name, wherever in the run it stands. */
export function resultOf(step: string, values: RunValue[]): string {
  const own = values.filter((each) => each.path === step || each.path.startsWith(`${step}.`) || each.path.startsWith(`${step}[`));
  const found = own.length > 0 ? own : values.filter((each) => each.path.includes(`.${step}.`)).slice(0, 12);
  const lists = found.filter((each) => each.type === "list" && each.path === step);
  const telling = found.filter((each) => each.value !== null && each.value !== undefined && each.type !== "context" && each.type !== "list" && !DULL.test(String(each.value)) && !ASIDE.has(last(each.path)));
  const inRecord = telling.filter((each) => each.path.startsWith(`${step}.record.`));
  const whole = telling.filter((each) => !each.path.slice(step.length).includes("["));
  const plain = inRecord.length > 0 ? inRecord : whole.length > 0 && own.length > 0 ? whole : telling;
  const parts = plain.slice(0, MOST).map((each) => `${last(each.path)} ${clipped(shown(each.value))}`);
  if (lists[0]) return `${lists[0].count ?? 0} elements`;
  if (parts.length === 0) return found.length > 0 ? "nothing" : "";
  return parts.join(", ") + (plain.length > MOST ? ", …" : "");
}

const last = (path: string): string => (path.split(".").pop() ?? path).replace(/\[\d+\]$/, "");
const clipped = (text: string): string => (text.length > 40 ? `${text.slice(0, 39)}…` : text);

/** The problems that stand at a line of the reading list. */
export const problemsAt = (line: FlowLine, problems: FlowProblem[]): FlowProblem[] => (line.step ? problems.filter((each) => each.step === line.step) : []);

/** Where in a text a line and a column begin. */
export function offsetOf(text: string, line: number, column: number): number {
  const lines = text.split("\n");
  const before = lines.slice(0, Math.max(0, line - 1)).reduce((sum, each) => sum + each.length + 1, 0);
  return Math.min(text.length, before + Math.max(0, column - 1));
}

/** What a step would do outside, where a flow was only tried; of one in a loop, how often. */
export function wouldOf(step: string, tried: TriedFlow | undefined): string {
  const own = (tried?.steps ?? []).filter((each) => (each.path.split("/").pop() ?? "") === step && each.would);
  const first = own[0]?.would ?? "";
  return own.length > 1 ? `${first} (${own.length} times)` : first;
}
