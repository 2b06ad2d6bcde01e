import { readFileSync } from "node:fs";
import { expect, test } from "vitest";
import { fieldsOf, withRows } from "../src/places/setup/fields";

const invoice = JSON.parse(readFileSync("../src/metrikon/demo/record_types/invoice.json", "utf-8")) as Record<string, unknown>;

test("a record type that was only looked at stays as it was", () => {
  const made = withRows(invoice, fieldsOf(invoice));
  const sorted = (value: unknown): unknown => (Array.isArray(value) ? [...(value as unknown[])].map(sorted) : value && typeof value === "object" ? Object.fromEntries(Object.entries(value).sort().map(([key, part]) => [key, key === "required" ? [...(part as string[])].sort() : sorted(part)])) : value);
  expect(sorted(made)).toEqual(sorted(invoice));
});

test("a field can be renamed, retyped and made required", () => {
  const rows = fieldsOf(invoice).map((row) => (row.name === "due_date" ? { ...row, name: "pay_by", type: "moment", required: true, labels: "pay by, due" } : row));
  const made = withRows(invoice, rows) as { properties: Record<string, Record<string, unknown>>; required: string[] };
  expect(made.properties["due_date"]).toBeUndefined();
  expect(made.properties["pay_by"]).toMatchObject({ type: "string", format: "date-time", "x-metrikon": { labels: ["pay by", "due"] } });
  expect(made.required).toContain("pay_by");
});

test("fields of rows stand under their list", () => {
  const rows = [...fieldsOf(invoice), { list: "lines", name: "iban", type: "iban", meaning: "", labels: "", examples: "", required: false, manner: "" }];
  const made = withRows(invoice, rows) as { properties: { lines: { items: { properties: Record<string, unknown> } } } };
  expect(made.properties.lines.items.properties["iban"]).toEqual({ type: "string", "x-metrikon": { kind: "iban" } });
});
