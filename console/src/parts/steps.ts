/** The journal's entries gathered into steps: one line a step instance, rows of a list under one line. */
import type { Entry } from "../api/call";

export interface Step {
  path: string;
  kind: string;
  state: string; // "done", "failed", "asked", "begun", "looked", "answered", "started", "continued"
  tries: number;
  from: number; // milliseconds since 1970
  to: number;
  entries: Entry[];
  inner: Step[]; // steps of the rows of a list
}

/** Steps in the order in which they began. */
export function stepsOf(entries: Entry[]): Step[] {
  const found = new Map<string, Step>();
  for (const entry of entries) {
    const path = entry.path || entry.event;
    const step = found.get(path) ?? { path, kind: entry.kind, state: "", tries: 0, from: entry.at - (entry.took ?? 0), to: entry.at, entries: [], inner: [] };
    step.entries.push(entry);
    step.kind = step.kind || entry.kind;
    step.state = entry.event === "failed" && "first" in entry.data ? "asked" : entry.event; // a first row that waits to be looked at has not failed
    step.to = entry.at;
    if (entry.event === "looked") step.tries = Number(entry.data["look"]);
    if (entry.event === "failed" || entry.event === "done" || entry.event === "asked") step.tries += 1;
    found.set(path, step);
  }
  const whole: Step[] = [];
  const lists = new Map<string, Step>();
  for (const step of found.values()) {
    const match = /^(.*?)\[\d+\]\//.exec(step.path);
    if (!match?.[1]) {
      whole.push(step);
      continue;
    }
    const path = match[1];
    let list = lists.get(path);
    if (!list) {
      list = { path, kind: "each", state: "done", tries: 0, from: step.from, to: step.to, entries: [], inner: [] };
      lists.set(path, list);
      whole.push(list);
    }
    list.inner.push(step);
    list.from = Math.min(list.from, step.from);
    list.to = Math.max(list.to, step.to);
    if (step.state !== "done") list.state = step.state;
  }
  return whole;
}

/** What a step says for itself in one line. */
export function said(step: Step): string {
  if (step.inner.length > 0) {
    const done = step.inner.filter((each) => each.state === "done").length;
    return `${done} of ${step.inner.length} steps done`;
  }
  const data = step.entries.at(-1)?.data ?? {};
  const result = (data["result"] ?? {}) as Record<string, unknown>;
  if (typeof data["message"] === "string") return data["message"];
  if (typeof data["decision"] === "string") return `${data["decision"] === "approve" ? "approved" : "refused"} by ${String(data["by"])}${data["comment"] ? `: ${String(data["comment"])}` : ""}`;
  if (step.kind === "read") return `${String(result["pages"])} ${result["pages"] === 1 ? "page" : "pages"}, ${String(result["format"])}`;
  if (step.kind === "extract" && result["usage"]) {
    const usage = result["usage"] as Record<string, unknown>;
    return `by ${String(result["model"])}, ${Number(usage["input_tokens"]) + Number(usage["output_tokens"])} tokens`;
  }
  if (Array.isArray(result["findings"])) return result["findings"].length ? `${result["findings"].length} found` : "nothing found wrong";
  if (typeof result["place"] === "string") return `${String(result["result"])}: ${result["place"]}`;
  return "";
}

/** The pictures that an entry tells of: of screens, and of a chart. */
export function picturesOf(data: Record<string, unknown>): { told: string; file: string }[] {
  const result = (data["result"] ?? {}) as Record<string, unknown>;
  const found = [...listed(data["seen"]), ...listed(result["pictures"])];
  if (typeof result["png"] === "string") found.push({ told: typeof result["name"] === "string" ? result["name"] : "The picture", file: result["png"] });
  return found;
}

function listed(value: unknown): { told: string; file: string }[] {
  return Array.isArray(value) ? value.filter((each): each is { told: string; file: string } => typeof each === "object" && each !== null && typeof (each as { file?: unknown }).file === "string") : [];
}
