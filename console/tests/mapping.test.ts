import { expect, test } from "vitest";
import type { RunValue, TriedFlow } from "../src/api/call";
import { asText } from "../src/places/flows/Names";
import { asSaid, asShown, exampleOf, firstRow } from "../src/places/flows/mapping";

const values = [
  { path: "bill.record.total", type: "number", value: 12.5, count: null },
  { path: "lines[0].name", type: "text", value: "Fern", count: null },
] as unknown as RunValue[];

test("a field shows what it holds in what stands beside, an expression nothing", () => {
  expect(exampleOf("${bill.record.total}", values)).toBe("12.5");
  expect(exampleOf("${ lines.name }", values)).toBe("Fern");
  expect(exampleOf("${bill.record.total + 1}", values)).toBe("");
  expect(exampleOf("plain", values)).toBe("");
});

test("a value that is not changed stays what it was, and one that is typed is text", () => {
  expect(asShown(12)).toBe("12");
  expect(asSaid("12", 12)).toBe(12);
  expect(asSaid("13", 12)).toBe("13");
  expect(asShown(null)).toBe("");
});

test("the first row is that of the first time that a step would write", () => {
  const tried = { steps: [{ path: "row", values: {} }, { path: "lines[0]/row", values: { columns: { Total: 1 } } }, { path: "lines[1]/row", values: { columns: { Total: 2 } } }] } as unknown as TriedFlow;
  expect(firstRow("row", tried)).toEqual({ Total: 1 });
  expect(firstRow("other", tried)).toBeUndefined();
});

test("a name is put into a flow in quotes where it would be read as something else", () => {
  expect([asText("INBOX"), asText("Bills/2026"), asText("no"), asText("a: b"), asText("Ünï")]).toEqual(["INBOX", "Bills/2026", '"no"', '"a: b"', '"Ünï"']);
});
