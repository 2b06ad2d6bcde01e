import { expect, test } from "vitest";
import type { Intake } from "../src/api/call";
import { costOf, placeOf, sizeOf, standingOf } from "../src/places/flows/coming";

const intake = (more: Partial<Intake>): Intake => ({ name: "post", kind: "mailbox", tells: "mails", place: "", looked_at: true, sent: false, proved: false, waits: null, taken: 0, most: null, let_go: 0, told: "", failing_since: null, address: "", ...more });
const would = { low: "1.2", high: "3.4", read: 30, unknown: "" };

test("a cost is told as a span, and not at all where models cost nothing", () => {
  expect(costOf(would, "EUR")).toBe("which would cost 1.2 to 3.4 EUR (told from 30 that were read)");
  expect(costOf({ ...would, low: "0", high: "0" })).toBe("");
  expect(costOf({ ...would, unknown: "It is a recording." })).toContain("not known: It is a recording.");
});

test("failing comes before waiting, and waiting before having taken all it may", () => {
  const waits = { count: 900, makes: 900, size: 1, low: "0", high: "0", read: 0, unknown: "" };
  expect(standingOf(intake({ failing_since: 1, waits }))?.words).toBe("fails since");
  expect(standingOf(intake({ waits, most: 1, taken: 1 }))?.words).toBe("waits for a yes");
  expect(standingOf(intake({ most: 3, taken: 3 }))?.words).toBe("has taken as many as it may");
  expect(standingOf(intake({}))).toBeNull();
});

test("sizes are told as people say them, and names are safe in an address", () => {
  expect([0, 999, 1500, 2_340_000].map(sizeOf)).toEqual(["", "999 B", "2 kB", "2.3 MB"]);
  expect(placeOf("a/b", "c?d")).toBe("/api/flows/a%2Fb/intakes/c%3Fd");
});
