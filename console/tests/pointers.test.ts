import { LosslessNumber } from "lossless-json";
import { describe, expect, it } from "vitest";
import { at, changed, exactDifference, exactSum, shape } from "../src/parts/pointers";
import { typed } from "../src/places/record/draft";

const record = { total: new LosslessNumber("10.00"), lines: [{ amount: 1 }, { amount: 2 }] };

describe("pointers", () => {
  it("find a value, or nothing", () => {
    expect(at(record, "/lines/1/amount")).toBe(2);
    expect(at(record, "/lines/9/amount")).toBeUndefined();
    expect(at(record, "/total/deeper/still")).toBeUndefined();
  });
  it("change a copy and leave the old record alone", () => {
    const other = changed(record, "/lines/0/amount", 5);
    expect(at(other, "/lines/0/amount")).toBe(5);
    expect(at(record, "/lines/0/amount")).toBe(1);
    expect(other.lines[1]).toBe(record.lines[1]);
  });
  it("remove what becomes undefined", () => {
    expect(changed({ a: 1, b: 2 }, "/a", undefined)).toEqual({ b: 2 });
  });
  it("leave the places of lists open in a shape", () => {
    expect(shape("/lines/12/amount")).toBe("/lines/*/amount");
  });
});

describe("sums", () => {
  it("are exact where floats are not", () => {
    expect(exactSum(["0.1", "0.2"])).toBe("0.3");
    expect(exactSum([new LosslessNumber("1.005"), 2])).toBe("3.005");
    expect(exactSum(["-5.50", "5.50"])).toBe("0.00");
    expect(exactDifference("489.36", "499.36")).toBe("-10.00");
  });
  it("are none when something is no number", () => {
    expect(exactSum(["1", undefined])).toBeNull();
  });
});

describe("what a person types", () => {
  const field = { shape: "/total", name: "total", title: "Total", kind: "amount", required: true, description: "", options: [] };
  it("keeps its digits", () => {
    expect(typed(field, "12.50")).toBe("12.50"); // the service reads it: it knows the document
  });
  it("goes as text to the service when it is written in another way", () => {
    expect(typed(field, "1.234,50")).toBe("1.234,50");
  });
  it("is nothing when it is empty", () => {
    expect(typed(field, "  ")).toBeUndefined();
  });
});
