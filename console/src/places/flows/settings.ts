/** Settings of a flow as they are typed, and as they are sent. */
import { parse, stringify } from "lossless-json";
import type { FlowSetting } from "../../api/call";

export type Typed = string | boolean | string[];

/** The value of a setting as it stands in its field. */
export function asTyped(setting: FlowSetting): Typed {
  if (setting.type === "boolean") return setting.value === true;
  if (setting.type === "list") return (setting.value as unknown[]).map(String);
  if (setting.type === "data") return stringify(setting.value, null, 2) ?? "";
  return String(setting.value);
}

/** The settings that are other than before, as they are sent; a number keeps its digits, and what is none is sent as it is typed, to be told. */
export function asSent(settings: FlowSetting[], typed: Record<string, Typed>, number: (digits: string) => unknown): Record<string, unknown> {
  const changed = settings.filter((each) => JSON.stringify(typed[each.name]) !== JSON.stringify(asTyped(each)));
  return Object.fromEntries(changed.map((each) => [each.name, sent(each, typed[each.name] ?? "", number)]));
}

/** What is typed as data; what is none is sent as it is typed, to be told. */
function data(typed: string): unknown {
  try {
    return parse(typed);
  } catch {
    return typed;
  }
}

function sent(setting: FlowSetting, value: Typed, number: (digits: string) => unknown): unknown {
  if (setting.type === "data" && typeof value === "string") return data(value);
  return setting.type === "number" && typeof value === "string" && /^-?\d+(\.\d+)?$/.test(value.trim()) ? number(value.trim()) : value;
}
