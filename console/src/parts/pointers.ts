/** JSON Pointers (RFC 6901) into a record, and changing a record without touching the old one. */
export type Values = Record<string, unknown>;

const steps = (pointer: string): string[] => pointer.split("/").slice(1).map((step) => step.replaceAll("~1", "/").replaceAll("~0", "~"));

/** The value at a pointer, or undefined. */
export function at(values: unknown, pointer: string): unknown {
  let here: unknown = values;
  for (const step of steps(pointer)) {
    if (typeof here !== "object" || here === null) return undefined;
    here = (here as Values)[step];
  }
  return here;
}

/** A copy in which the value at a pointer is another; undefined removes it. */
export function changed<T>(values: T, pointer: string, value: unknown): T {
  const [first, ...rest] = steps(pointer);
  if (first === undefined) return value as T;
  const inner = rest.length ? changed((values as Values)[first] ?? {}, `/${rest.join("/")}`, value) : value;
  if (Array.isArray(values)) {
    const copy: unknown[] = [...(values as unknown[])];
    copy[Number(first)] = inner;
    return copy as T;
  }
  const others = Object.entries(values as Values).filter(([name]) => name !== first || inner !== undefined);
  const copy: Values = Object.fromEntries(others);
  if (inner !== undefined) copy[first] = inner;
  return copy as T;
}

/** A pointer with its list positions left open: /lines/3/amount → /lines/ * /amount. */
export const shape = (pointer: string): string => pointer.split("/").map((step) => (/^\d+$/.test(step) ? "*" : step)).join("/");

/** The exact sum of decimals given as digits, as digits; null when one of them is no number. */
export function exactSum(values: unknown[]): string | null {
  const texts = values.map((value) => String(value));
  if (texts.some((text) => !/^-?\d+(\.\d+)?$/.test(text))) return null;
  const places = Math.max(0, ...texts.map((text) => (text.split(".")[1] ?? "").length));
  const total = texts.reduce((sum, text) => sum + scaled(text, places), 0n);
  return written(total, places);
}

/** The exact difference of two decimals given as digits. */
export function exactDifference(first: unknown, second: unknown): string | null {
  const negated = String(second).startsWith("-") ? String(second).slice(1) : `-${String(second)}`;
  return exactSum([first, negated]);
}

function scaled(text: string, places: number): bigint {
  const [whole = "0", fraction = ""] = text.replace("-", "").split(".");
  const size = BigInt(whole + fraction.padEnd(places, "0"));
  return text.startsWith("-") ? -size : size;
}

function written(total: bigint, places: number): string {
  const digits = (total < 0n ? -total : total).toString().padStart(places + 1, "0");
  const text = places ? `${digits.slice(0, -places)}.${digits.slice(-places)}` : digits;
  return total < 0n ? `-${text}` : text;
}
