/** What the page of columns works out. */
import type { Mapping, RunValue, TriedFlow } from "../../api/call";
import { shown } from "../../parts/words";

const HOLE = /^\$\{\s*([A-Za-z_][\w.]*)\s*\}$/;

/** A value of a flow as it is typed. */
export const asShown = (value: unknown): string => (value === null || value === undefined ? "" : typeof value === "string" ? value : typeof value === "object" ? JSON.stringify(value) : String(value));

/** What was typed as a value of a flow: as it was where it is the same still. */
export const asSaid = (text: string, before: unknown): unknown => (asShown(before) === text ? before : text);

/** What a field holds in what stands beside; empty where it is not one field, or nothing is known of it. */
export function exampleOf(said: string, values: RunValue[]): string {
  const path = HOLE.exec(said)?.[1];
  if (!path) return "";
  const found = values.find((each) => each.path === path) ?? values.find((each) => each.path.replace(/\[\d+\]/g, "") === path);
  return found === undefined || found.value === null || found.value === undefined ? "" : shown(found.value);
}

/** The columns of the first row that a step would write, where the flow was tried. */
export function firstRow(step: string, tried: TriedFlow | undefined): Record<string, unknown> | undefined {
  const found = tried?.steps.find((each) => (each.path.split("/").pop() ?? "") === step && each.values?.columns);
  return found?.values?.columns as Record<string, unknown> | undefined;
}

/** Whether nothing at all is put into any column. */
export const unmapped = (mapping: Mapping, said: Record<string, string>): boolean => mapping.columns.every((each) => !said[each.name]);
