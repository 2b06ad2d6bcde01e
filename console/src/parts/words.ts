/** Words and figures as they are shown. */
import { isLosslessNumber } from "lossless-json";

const relative = new Intl.RelativeTimeFormat("en", { numeric: "auto", style: "short" });

/** How long ago, in words. */
export function ago(milliseconds: number, now: number = Date.now()): string {
  const seconds = Math.round((milliseconds - now) / 1000);
  for (const [unit, size] of [["day", 86400], ["hour", 3600], ["minute", 60]] as const) {
    if (Math.abs(seconds) >= size) return relative.format(Math.trunc(seconds / size), unit);
  }
  return "just now";
}

/** The exact time, for the title of a relative one. */
export const exactTime = (milliseconds: number): string => new Date(milliseconds).toLocaleString();

const parts = new Intl.NumberFormat().formatToParts(1234567.5);
const GROUP = parts.find((part) => part.type === "group")?.value ?? ",";
const MARK = parts.find((part) => part.type === "decimal")?.value ?? ".";

/** A figure with the reader's separators and all its own digits. */
export function figure(value: unknown): string {
  const digits = isLosslessNumber(value) ? value.toString() : String(value);
  const match = /^(-?)(\d+)(?:\.(\d+))?$/.exec(digits);
  if (!match) return digits;
  const whole = (match[2] ?? "").replace(/\B(?=(\d{3})+$)/g, GROUP);
  return `${match[1] ?? ""}${whole}${match[3] ? MARK + match[3] : ""}`;
}

/** Whether a value is a number, exact or not. */
export const isFigure = (value: unknown): boolean => typeof value === "number" || isLosslessNumber(value);

/** A value of a record as text to read. */
export function shown(value: unknown): string {
  if (value === null || value === undefined) return "";
  if (typeof value === "boolean") return value ? "yes" : "no";
  return isFigure(value) ? figure(value) : String(value);
}

/** Data in a line: lists and names with values; of what has a name, the name. */
export function outline(value: unknown): string {
  if (Array.isArray(value)) return value.map((each) => outline(named(each))).join(", ");
  if (typeof value !== "object" || value === null || isFigure(value)) return shown(value);
  return Object.entries(value)
    .map(([name, each]) => `${name} ${outline(each)}`)
    .join(", ");
}

const named = (value: unknown): unknown => (typeof value === "object" && value !== null && "name" in value && typeof value.name === "string" ? value.name : value);

/** A value of a record as text to edit. */
export function editable(value: unknown): string {
  return value === null || value === undefined ? "" : String(value);
}

export const STATES: Record<string, { word: string; sign: string; tone: string }> = {
  ready: { word: "in line", sign: "·", tone: "" },
  running: { word: "under way", sign: "›", tone: "" },
  waiting: { word: "under way", sign: "›", tone: "" },
  review: { word: "waits for you", sign: "!", tone: "person" },
  held: { word: "looks like a repeat", sign: "=", tone: "person" },
  parked: { word: "parked", sign: "‖", tone: "stopped" },
  done: { word: "written", sign: "✓", tone: "good" },
  stopped: { word: "nothing to write", sign: "–", tone: "" },
  refused: { word: "refused", sign: "×", tone: "stopped" },
  replaced: { word: "replaced by a later run", sign: "·", tone: "" },
  waits: { word: "waits for you", sign: "!", tone: "person" },
  clear: { word: "nothing wrong", sign: "✓", tone: "good" },
  approved: { word: "approved", sign: "✓", tone: "good" },
  read: { word: "read", sign: "·", tone: "" },
};

/** A count with its noun. */
export const count = (number: number, one: string, many: string = `${one}s`): string => `${number.toLocaleString()} ${number === 1 ? one : many}`;
