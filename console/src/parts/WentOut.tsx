/** What a run has sent out: a line each, with how it stands and what is there otherwise. */
import type { ReactNode } from "react";
import type { Delivery } from "../api/call";
import { count } from "./words";

const STANDS: Record<string, [string, string, string]> = {
  written: ["✓", "written", "good"],
  there: ["✓", "there already", ""],
  otherwise: ["≠", "there with other values", "person"],
  unsure: ["?", "not sure", "person"],
  failed: ["×", "not written", "stopped"],
  shown: ["!", "waits for a look", "person"],
  entered: ["›", "to be written", ""],
  sending: ["›", "under way", ""],
  corrected: ["·", "corrected: it has another key now", ""],
  returning: ["›", "to be taken back", ""],
  "taken back": ["·", "taken back", ""],
};
const SHOWN = 12;

export function WentOut({ all }: { all: Delivery[] }): ReactNode {
  if (all.length === 0) return null;
  return (
    <ul className="small" style={{ margin: "6px 0 0", paddingLeft: 0, listStyle: "none" }} aria-label="What went out">
      {all.slice(0, SHOWN).map((each) => (
        <li key={each.key}>
          <Stands state={each.state} /> <span className="soft">{each.path}</span> {each.receipt ?? each.target}
          {each.told && `: ${each.told}`} {each.error}
          {each.state === "taken back" && each.mark && ` The row stays, with ${each.mark}.`}
        </li>
      ))}
      {all.length > SHOWN && <li className="soft">and {count(all.length - SHOWN, "more", "more")}</li>}
    </ul>
  );
}

function Stands({ state }: { state: string }): ReactNode {
  const [sign, word, tone] = STANDS[state] ?? ["·", state, ""];
  return (
    <span className={`stamp ${tone}`} data-sign={sign}>
      {word}
    </span>
  );
}
