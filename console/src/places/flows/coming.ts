/** What is said of intakes. */
import type { Intake } from "../../api/call";

/** The address of an intake in the API. */
export function placeOf(flow: string, intake: string): string {
  return `/api/flows/${encodeURIComponent(flow)}/intakes/${encodeURIComponent(intake)}`;
}

/** What something would cost, in words; nothing where models cost nothing. */
export function costOf(would: { low: string; high: string; unknown: string; read: number }, currency = ""): string {
  if (would.unknown) return `at a cost that is not known: ${would.unknown}`;
  if (Number(would.high) === 0) return "";
  const span = would.low === would.high ? would.high : `${would.low} to ${would.high}`;
  return `which would cost ${span}${currency ? ` ${currency}` : ""} (told from ${would.read} that were read)`;
}

/** Where an intake stands, as a stamp; nothing where all is as it should be. */
export function standingOf(intake: Intake): { words: string; tone: string; sign: string } | null {
  if (intake.failing_since) return { words: "fails since", tone: "stopped", sign: "×" };
  if (intake.waits) return { words: "waits for a yes", tone: "person", sign: "?" };
  if (intake.most && (intake.taken ?? 0) >= intake.most) return { words: "has taken as many as it may", tone: "", sign: "–" };
  return null;
}

/** Bytes, as people say them; nothing where they are not known. */
export function sizeOf(bytes: number): string {
  if (!bytes) return "";
  return bytes < 1000 ? `${bytes} B` : bytes < 1_000_000 ? `${Math.round(bytes / 1000)} kB` : `${(bytes / 1e6).toFixed(1)} MB`;
}
