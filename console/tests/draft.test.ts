import { expect, test } from "vitest";
import type { Evidence, RecordDetail } from "../src/api/call";
import { given } from "../src/places/record/draft";

const record = { as_read: { vendor: "Fernhil" } } as unknown as RecordDetail;
const evidence = { "/vendor": { how: "person" }, "/account": { how: "list" }, "/lines/0/category": { how: "list" }, "/lines/3/category": { how: "list" } } as unknown as Record<string, Evidence>;
const values = { vendor: "Moorgate", account: "5100 Plants", lines: [{ part: "AS-1", category: "Seed" }] };

test("what a list said goes back as it was read, so that it is looked up anew", () => {
  expect(given(values, record, evidence)).toEqual({ vendor: "Moorgate", lines: [{ part: "AS-1" }] });
});

test("what a person sets in the place of a list's word stays", () => {
  expect(given(values, record, evidence, "/account")).toEqual({ vendor: "Moorgate", account: "5100 Plants", lines: [{ part: "AS-1" }] });
});

test("values that no list said stay as they are", () => {
  expect(given(values, record, {})).toEqual(values);
});
