import { LosslessNumber } from "lossless-json";
import { describe, expect, it } from "vitest";
import { ago, figure, outline, shown } from "../src/parts/words";
import { said, stepsOf } from "../src/parts/steps";
import type { Entry } from "../src/api/call";

const entry = (number: number, event: string, path: string, at: number, data: Record<string, unknown> = {}, kind = "write"): Entry => ({ number, event, path, kind, at, took: event === "done" ? 10 : null, data });

describe("figures", () => {
  it("keep every digit and get the reader's separators", () => {
    expect(figure(new LosslessNumber("1234567.50"))).toBe("1,234,567.50");
    expect(figure(new LosslessNumber("-0.10"))).toBe("-0.10");
    expect(figure("abc")).toBe("abc");
    expect(shown(true)).toBe("yes");
    expect(shown(undefined)).toBe("");
  });
});

describe("times", () => {
  it("are told relative to now", () => {
    expect(ago(0, 30_000)).toBe("just now");
    expect(ago(0, 120_000)).toBe("2 min. ago");
    expect(ago(0, 86_400_000)).toBe("yesterday");
  });
});

describe("the journal", () => {
  const entries = [
    entry(1, "started", "", 0, {}, ""),
    entry(2, "done", "document", 20, { result: { pages: 2, format: "pdf" } }, "read"),
    entry(3, "failed", "invoice", 30, { message: "The model is down." }, "extract"),
    entry(4, "done", "invoice", 60, { result: {} }, "extract"),
    entry(5, "begun", "lines[1]/row", 70),
    entry(6, "begun", "lines[2]/row", 70),
    entry(7, "done", "lines[1]/row", 90),
  ];
  it("gathers entries into steps, and rows of a list under one line", () => {
    const steps = stepsOf(entries);
    expect(steps.map((step) => [step.path, step.state])).toEqual([["started", "started"], ["document", "done"], ["invoice", "done"], ["lines", "begun"]]);
    expect(steps[2]?.tries).toBe(2);
    expect(steps[3]?.inner).toHaveLength(2);
  });
  it("says each step in a line", () => {
    const steps = stepsOf(entries);
    expect(steps.map(said)).toEqual(["", "2 pages, pdf", "", "1 of 2 steps done"]);
    expect(said(stepsOf(entries.slice(0, 3))[2] as never)).toBe("The model is down.");
  });
});

describe("data in a line", () => {
  it("names what has a name, and tells the rest with its values", () => {
    expect(outline([{ name: "propagation", weight: 3 }, { name: "teaching" }])).toBe("propagation, teaching");
    expect(outline({ unfit: 0, possible: new LosslessNumber("40") })).toBe("unfit 0, possible 40");
    expect(outline(["Rosa", 2])).toBe("Rosa, 2");
    expect(outline(null)).toBe("");
  });
});
