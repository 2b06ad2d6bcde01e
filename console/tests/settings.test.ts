import { describe, expect, it } from "vitest";
import type { FlowSetting } from "../src/api/call";
import { asSent, asTyped } from "../src/places/flows/settings";

const setting = (name: string, type: string, value: unknown): FlowSetting => ({ name, type, value, about: "", options: [] });
const SETTINGS = [setting("folder", "text", "inbox"), setting("least", "number", 500), setting("sure", "boolean", true), setting("who", "list", ["Rosa", "Emil"])];

describe("settings of a flow in a copy", () => {
  it("are sent where they are other than before, numbers with their digits", () => {
    const typed = Object.fromEntries(SETTINGS.map((each) => [each.name, asTyped(each)]));
    expect(asSent(SETTINGS, typed, String)).toEqual({});
    expect(asSent(SETTINGS, { ...typed, least: "7.50", who: ["Ida"] }, (digits) => ({ digits }))).toEqual({ least: { digits: "7.50" }, who: ["Ida"] });
  });
  it("are data as they are written, and as they are typed where they are none", () => {
    const labels = setting("labels", "data", { unfit: 0, good: 50 });
    const data = [labels];
    expect(asTyped(labels)).toBe('{\n  "unfit": 0,\n  "good": 50\n}');
    expect(asSent(data, { labels: asTyped(labels) }, String)).toEqual({});
    expect(JSON.stringify(asSent(data, { labels: '{"unfit": 0, "good": 60}' }, String))).toContain('"good":');
    expect(asSent(data, { labels: "{unfit" }, String)).toEqual({ labels: "{unfit" });
  });
  it("are sent as they are typed where they are no number, so that it is told", () => {
    expect(asSent(SETTINGS, { folder: "inbox", least: "many", sure: false, who: ["Rosa", "Emil"] }, Number)).toEqual({ least: "many", sure: false });
  });
});
