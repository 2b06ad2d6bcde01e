/** Trials in figures: which fields come first, how a field is called. */
import { describe, expect, test } from "vitest";
import { amiss, fieldName, ordered, percent } from "../src/places/trials/figures";

const counts = (wrong: number, missing = 0, invented = 0) => ({ right: 5, wrong, missing, invented });

describe("the fields of trials", () => {
  test("those with most amiss in both come first, then by name", () => {
    expect(ordered({ a: counts(0), b: counts(2), c: counts(0) }, { c: counts(0, 1, 3), d: counts(0) })).toEqual(["c", "b", "a", "d"]);
  });
  test("what is wrong, missing or given where none is counts as amiss", () => {
    expect(amiss(counts(1, 2, 3))).toBe(6);
    expect(amiss(undefined)).toBe(0);
  });
  test("a field in rows is called by its list and its name", () => {
    expect(fieldName("/lines/*/amount")).toBe("lines › amount");
    expect(fieldName("lines[].amount")).toBe("lines › amount");
    expect(fieldName("vendor")).toBe("vendor");
  });
  test("a share is told in per cent, and a dash where there is none", () => {
    expect(percent("0.946")).toBe("95 %");
    expect(percent(null)).toBe("–");
  });
});
