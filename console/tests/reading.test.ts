import { describe, expect, it } from "vitest";
import type { FlowLine, FlowProblem, RunValue } from "../src/api/call";
import { offsetOf, problemsAt, resultOf, standing, wouldOf } from "../src/places/flows/reading";

const value = (path: string, of: unknown, type = "string"): RunValue => ({ path, type, value: of, count: null });

describe("what a step gave, in a few words", () => {
  const values = [
    value("paper", null, "context"),
    value("paper.document", "a".repeat(64)),
    value("paper.pages", 2, "number"),
    value("paper.documents[1].pages[1]", 1, "number"),
    value("request.id", "0".repeat(26)),
    value("request.record.amount", 12, "number"),
    value("request.record.what", "spades"),
    value("request.model", "pattern"),
    { path: "lines", type: "list", value: null, count: 7 },
    value("lines[1].row.result", "written"),
    value("order", null, "Null"),
  ];
  it("tells the values of a record, and no hashes", () => {
    expect(resultOf("request", values)).toBe("amount 12, what spades");
    expect(resultOf("paper", values)).toBe("pages 2");
  });
  it("tells how many elements a list has, and what a step within it gave", () => {
    expect(resultOf("lines", values)).toBe("7 elements");
    expect(resultOf("row", values)).toBe("result written");
  });
  it("tells that a step gave nothing, and says nothing of one that was not reached", () => {
    expect(resultOf("order", values)).toBe("nothing");
    expect(resultOf("later", values)).toBe("");
  });
});

describe("the text of a flow", () => {
  it("is found by line and column", () => {
    expect(offsetOf("ab\ncd\nef", 2, 2)).toBe(4);
    expect(offsetOf("ab", 9, 1)).toBe(2);
  });
});

it("tells what a step would do outside, and how often", () => {
  const step = (path: string, would: string) => ({ path, would, kind: "write", sentence: "", result: null });
  const tried = { stands: "done", reason: "", values: [], steps: [step("lines[1]/row", "A row would be written."), step("lines[2]/row", "A row would be written."), step("paper", "")] };
  expect(wouldOf("row", tried)).toBe("A row would be written. (2 times)");
  expect(wouldOf("paper", tried)).toBe("");
  expect(wouldOf("row", undefined)).toBe("");
});

it("puts a problem at the line of its step", () => {
  const line = { step: "row", number: "1", depth: 0, kind: "write", sentence: "", more: [] } satisfies FlowLine;
  const problem = { step: "row", place: "to", message: "x", line: 3, column: 1 } satisfies FlowProblem;
  expect(problemsAt(line, [problem, { ...problem, step: "other" }])).toEqual([problem]);
});

it("says whether a flow is on, paused or off", () => {
  expect(standing({ running: true }).word).toBe("on");
  expect(standing({ running: true, paused: true }).word).toBe("paused");
  expect(standing({ running: false, paused: true }).word).toBe("off");
});
