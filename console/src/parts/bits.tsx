/** Small things that every place shows. */
import { Button } from "@mantine/core";
import type { ReactNode } from "react";
import { ServiceProblem } from "../api/call";
import { ago, exactTime, STATES } from "./words";

/** The state of a run or record: a sign, a word, a tone. */
export function Stamp({ state }: { state: string }): ReactNode {
  const { word, sign, tone } = STATES[state] ?? { word: state, sign: "·", tone: "" };
  return (
    <span className={`stamp ${tone}`} data-sign={sign}>
      {word}
    </span>
  );
}

/** A time, relative, with the exact one on hover. */
export function When({ at }: { at: number }): ReactNode {
  return (
    <time className="soft small" dateTime={new Date(at).toISOString()} title={exactTime(at)}>
      {ago(at)}
    </time>
  );
}

/** What went wrong and what to do. */
export function Problem({ error, again }: { error: Error; again?: () => void }): ReactNode {
  const lost = error instanceof ServiceProblem && error.status === 0;
  return (
    <div className="note bad" role="alert">
      <p style={{ margin: 0 }}>{error.message}</p>
      {again && (
        <Button mt={8} size="compact-sm" variant="default" onClick={again}>
          {lost ? "Try again now" : "Try again"}
        </Button>
      )}
    </div>
  );
}

/** An empty page that says what to do first. */
export function Empty({ children }: { children: ReactNode }): ReactNode {
  return (
    <div className="sheet" style={{ padding: "28px 30px", maxWidth: 640 }}>
      {children}
    </div>
  );
}

/** Said to whoever may look on but not act. */
export function OnlyLooking({ what }: { what: string }): ReactNode {
  return (
    <div className="note" role="note">
      {what} takes the role reviewer. You look on as a reader; an admin gives roles (<span className="mono">metrikon people</span>).
    </div>
  );
}
