/** What a parked run waits with for a person: what may have gone out, or the first row of a destination. */
import { Button } from "@mantine/core";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { RunDetail } from "../api/call";

type Row = Record<string, unknown>;
type Entries = RunDetail["journal"];

export interface WaitsWith {
  what: "sent" | "first" | "behind";
  row: Row;
}

/** What the last failure of a run put before a person, unless it was continued since. */
export function waitsWith(journal: Entries): WaitsWith | undefined {
  const last = journal.findLast((each) => each.event === "failed" || (each.event === "continued" && "unsure" in each.data));
  if (last?.event !== "failed" || !("unsure" in last.data || "first" in last.data)) return undefined;
  const what = "first" in last.data ? (last.data.first === "behind" ? "behind" : "first") : "sent";
  return { what, row: (last.data.sent as Row | undefined) ?? {} };
}

export function Waits({ what, row, flow, say, busy }: WaitsWith & { flow: string; say: (what: string) => void; busy: boolean }): ReactNode {
  return what !== "sent" ? <First behind={what === "behind"} row={row} flow={flow} say={say} busy={busy} /> : <MayHaveGone row={row} say={say} busy={busy} />;
}

function First({ row, flow, say, busy, behind }: { behind: boolean; row: Row; flow: string; say: (what: string) => void; busy: boolean }): ReactNode {
  return (
    <section aria-label="The first row" style={{ padding: "12px 14px", borderBottom: "1px solid var(--hair)" }}>
      <p style={{ margin: "0 0 8px" }}>
        <b>{behind ? "This row waits behind the first one that is to be written." : "This is the first row that is to be written."}</b> Look whether every column holds
        what it should; all that wait go on then.
      </p>
      <Values rows={Object.entries(row)} />
      <div style={{ display: "flex", flexWrap: "wrap", gap: 10 }}>
        <Button size="compact-md" loading={busy} onClick={() => say("looked=true")}>
          {behind ? "Write it, and all that wait" : "Write it, and those behind it"}
        </Button>
        <Button size="compact-md" variant="default" component={Link} to={`/flows/${flow}`}>
          Correct the flow
        </Button>
      </div>
    </section>
  );
}

function MayHaveGone({ row, say, busy }: { row: Row; say: (what: string) => void; busy: boolean }): ReactNode {
  const rows = Object.entries(row).filter(([, value]) => !empty(value));
  return (
    <section aria-label="What may have gone out" style={{ padding: "12px 14px", borderBottom: "1px solid var(--hair)" }}>
      <p style={{ margin: "0 0 8px" }}>
        <b>This may have gone out, or not.</b> The connection was lost while it was handed over. Look where it was to go, and compare it with what we sent:
      </p>
      <Values rows={rows} />
      <div style={{ display: "flex", flexWrap: "wrap", gap: 10 }}>
        <Button size="compact-md" loading={busy} onClick={() => say("unsure=went")}>
          It is there: go on
        </Button>
        <Button size="compact-md" variant="default" loading={busy} onClick={() => say("unsure=again")}>
          It is not there: do it again
        </Button>
      </div>
    </section>
  );
}

function Values({ rows }: { rows: [string, unknown][] }): ReactNode {
  return (
    <table className="small" style={{ borderCollapse: "collapse", marginBottom: 10 }}>
      <tbody>
        {rows.map(([name, value]) => (
          <tr key={name}>
            <th scope="row" style={{ textAlign: "left", verticalAlign: "top", paddingRight: 16, fontWeight: 400 }} className="soft">
              {name}
            </th>
            <td style={{ whiteSpace: "pre-wrap" }}>
              {empty(value) ? <span className="soft">no value</span> : typeof value === "string" ? value : JSON.stringify(value)}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function empty(value: unknown): boolean {
  return value === null || value === "" || (Array.isArray(value) && value.length === 0);
}
