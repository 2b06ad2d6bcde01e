/** Shares and states of trials as they are shown. */

/** A share from 0 to 1 in per cent; a dash where there is none. */
export const percent = (share: unknown): string => (share === null || share === undefined ? "–" : `${Math.round(Number(share) * 100)} %`);

const STATES: Record<string, { word: string; sign: string; tone: string }> = {
  running: { word: "under way", sign: "›", tone: "" },
  done: { word: "done", sign: "✓", tone: "good" },
  stopped: { word: "stopped", sign: "‖", tone: "" },
  failed: { word: "broke off", sign: "×", tone: "stopped" },
};

/** The word, sign and tone of the state of a trial. */
export const state = (given: string): { word: string; sign: string; tone: string } => STATES[given] ?? { word: given, sign: "·", tone: "" };

/** A pointer of a field as people read it. */
export const fieldName = (shape: string): string => shape.replace(/^\//, "").replace(/(\[\]\.|\/\*\/|\/)/g, " › ");

export interface Counts {
  right: number;
  wrong: number;
  missing: number;
  invented: number;
}

/** How many values of a field are not as they should be. */
export const amiss = (counts: Counts | undefined): number => (counts ? counts.wrong + counts.missing + counts.invented : 0);

/** The fields of one or two trials, those with most amiss first. */
export function ordered(one: Record<string, Counts>, two: Record<string, Counts> = {}): string[] {
  const names = [...new Set([...Object.keys(one), ...Object.keys(two)])];
  return names.sort((a, b) => amiss(one[b]) + amiss(two[b]) - amiss(one[a]) - amiss(two[a]) || a.localeCompare(b));
}
