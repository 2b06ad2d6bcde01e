import { readFileSync } from "node:fs";
import { expect, test } from "vitest";
import { besides } from "../src/places/setup/besides";

const invoice = JSON.parse(readFileSync("../src/metrikon/demo/record_types/invoice.json", "utf-8")) as Record<string, unknown>;

test("rules of a record type are told in sentences", () => {
  const told = besides(invoice);
  expect(told).toContain("Net + tax must come to total.");
  expect(told).toContain("Amount of all lines + tax must come to total, unless there is net.");
  expect(told).toContain("In each row of lines, quantity × unit price must be amount.");
  expect(told).toContain("Due date must not lie before date.");
  expect(told).toContain("A second record with the same vendor and number waits for a person.");
  expect(told.at(-1)).toMatch(/^E-invoices carry document type BT-3, vendor BT-27, .*, part number BT-155/);
  expect(told).toContain("Lines part number, when doubtful, is told of and does not stop the record.");
});

test("lists, look-ups, derived values and what is not known yet are told too", () => {
  const string = { type: "string" };
  const properties = {
    card: { ...string, "x-metrikon": { list: "cards", unknown: "warn", labels: ["Card"] } },
    account: { ...string, "x-metrikon": { lookup: { list: "cards", by: "/card", column: "account" } } },
    rows: { type: "integer", "x-metrikon": { derived: { count: "/lines" } } },
    note: { ...string, "x-metrikon": { evidence: false, tint: "green" } },
  };
  expect(besides({ properties, "x-metrikon": { rules: [{ holds: "total <= 400" }], alike: ["/card"] } })).toEqual([
    "Total <= 400 must hold.",
    "A record of another item with the same card is taken for a look-alike.",
    "Card must be on the list cards, or it is told of.",
    "Account is taken from the column account of the list cards, by card.",
    "Rows is the number of lines where it is not printed.",
    "Note need not stand in the document.",
    'Note: tint is "green".',
  ]);
});

test("a record type without annotations says nothing besides", () => {
  expect(besides({ properties: { number: { type: "string" } } })).toEqual([]);
});
