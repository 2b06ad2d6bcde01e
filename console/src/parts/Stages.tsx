/** How a record was read: each stage of extraction with what came of it, and what it changed. */
import type { ReactNode } from "react";

export interface Stage {
  name: string;
  outcome: string;
  changes?: string[];
}

const ABOUT: Record<string, string> = {
  plan: "what the document says for certain, and what is left to ask",
  ask: "requests to models",
  parse: "answers understood and fitted to the record type",
  ground: "values looked up in the document",
  check: "rules over the record",
  repair: "failed fields asked again",
  settle: "the record as it stands",
};

export function Stages({ stages }: { stages: Stage[] }): ReactNode {
  return (
    <table className="grid stages" aria-label="How it was read">
      <tbody>
        {stages.map((stage) => (
          <tr key={stage.name}>
            <th scope="row" title={ABOUT[stage.name]}>
              {stage.name}
            </th>
            <td>
              {stage.outcome}
              {stage.changes && stage.changes.length > 0 && (
                <details>
                  <summary className="soft small">what was changed</summary>
                  <ul className="small">
                    {stage.changes.map((each) => (
                      <li key={each}>{each}</li>
                    ))}
                  </ul>
                </details>
              )}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
