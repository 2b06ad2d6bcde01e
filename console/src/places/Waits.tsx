/** What a parked run waits with for a person: what may have gone out, or the first row of a destination. */
import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { call, type RunDetail, type ThereNow } from "../api/call";
import { Problem } from "../parts/bits";
import { count, figure, isFigure } from "../parts/words";

type Row = Record<string, unknown>;
type Entries = RunDetail["journal"];

export interface WaitsWith {
  what: "sent" | "first" | "behind" | "otherwise";
  row: Row;
  differs?: Differs[];
}

interface Differs {
  column: string;
  there: unknown;
  wanted: unknown;
}

/** What the last failure of a run put before a person, unless it was continued since. */
export function waitsWith(journal: Entries): WaitsWith | undefined {
  const last = journal.findLast((each) => each.event === "failed" || (each.event === "continued" && ("unsure" in each.data || "otherwise" in each.data)));
  if (last?.event === "failed" && "otherwise" in last.data) {
    const held = last.data.otherwise as { differs?: Differs[] };
    return { what: "otherwise", row: (last.data.sent as Row | undefined) ?? {}, differs: held.differs ?? [] };
  }
  if (last?.event !== "failed" || !("unsure" in last.data || "first" in last.data)) return undefined;
  const what = "first" in last.data ? (last.data.first === "behind" ? "behind" : "first") : "sent";
  return { what, row: (last.data.sent as Row | undefined) ?? {} };
}

export function Waits({ what, row, differs, run, flow, say, busy }: WaitsWith & { run: string; flow: string; say: (what: string) => void; busy: boolean }): ReactNode {
  if (what === "otherwise") return <ThereOtherwise differs={differs ?? []} say={say} busy={busy} />;
  return what !== "sent" ? <First behind={what === "behind"} row={row} flow={flow} say={say} busy={busy} /> : <MayHaveGone row={row} run={run} say={say} busy={busy} />;
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

function ThereOtherwise({ differs, say, busy }: { differs: Differs[]; say: (what: string) => void; busy: boolean }): ReactNode {
  return (
    <section aria-label="What is there with other values" style={{ padding: "12px 14px", borderBottom: "1px solid var(--hair)" }}>
      <p style={{ margin: "0 0 8px" }}>
        <b>This is there already, with other values.</b> Say which of the two is right:
      </p>
      <Sides heads={["There now", "This run has"]} rows={differs.map((each) => [each.column, [each.there, each.wanted]])} />
      <div style={{ display: "flex", flexWrap: "wrap", gap: 10 }}>
        <Button size="compact-md" loading={busy} onClick={() => say("otherwise=renew")}>
          Set it as this run has it
        </Button>
        <Button size="compact-md" variant="default" loading={busy} onClick={() => say("otherwise=keep")}>
          Leave it as it is there
        </Button>
      </div>
    </section>
  );
}

function MayHaveGone({ row, run, say, busy }: { row: Row; run: string; say: (what: string) => void; busy: boolean }): ReactNode {
  const there = useQuery({ queryKey: ["there-now", run], queryFn: () => call<ThereNow>("GET", `/api/runs/${run}/there-now`), refetchOnWindowFocus: false });
  return (
    <section aria-label="What may have gone out" style={{ padding: "12px 14px", borderBottom: "1px solid var(--hair)" }}>
      <p style={{ margin: "0 0 8px" }}>
        <b>This may have gone out, or not.</b> The connection was lost while it was handed over. Look where it was to go, and compare it with what we sent:
      </p>
      {there.data?.items.length ? (
        there.data.items.map((each, number) => <Beside key={number} to={each.to} sent={each.sent} found={each.found} why={each.why} />)
      ) : (
        <Values rows={Object.entries(row).filter(([, value]) => !empty(value))} />
      )}
      {there.isPending && <p className="soft small">Looking what is there now.</p>}
      {there.error && <Problem error={there.error} again={() => void there.refetch()} />}
      <div style={{ display: "flex", flexWrap: "wrap", gap: 10 }}>
        <Button size="compact-md" loading={busy} onClick={() => say("unsure=went")}>
          It is there: go on
        </Button>
        <Button size="compact-md" variant="default" loading={busy} onClick={() => say("unsure=again")}>
          It is not there: do it again
        </Button>
        {there.data && (
          <Button size="compact-md" variant="subtle" loading={there.isFetching} onClick={() => void there.refetch()}>
            Look again
          </Button>
        )}
      </div>
    </section>
  );
}

const SHOWN = 3; // of what is like a row, beside it

/** What was sent, and beside it what is there now. */
function Beside({ to, sent, found, why }: { to: string; sent: Row; found: Row[] | null; why: string }): ReactNode {
  const held = (found ?? []).slice(0, SHOWN);
  const names = [...new Set([...Object.keys(sent), ...held.flatMap((each) => Object.keys(each))])].filter((name) => ![sent, ...held].every((each) => empty(each[name] ?? null)));
  return (
    <>
      <p className="soft small" style={{ margin: "0 0 6px" }}>
        {found === null ? `${to}: ${why}` : found.length === 0 ? `In ${to} nothing is like it now.` : `In ${to} ${count(found.length, "record")} ${found.length === 1 ? "is" : "are"} like it now.`}
      </p>
      <div style={{ overflowX: "auto" }}>
        <Sides
          heads={held.length > 0 ? ["We sent", ...held.map((_, number) => (held.length === 1 ? "There now" : `There now, ${number + 1}`))] : []}
          rows={names.map((name) => [name, [sent, ...held].map((each) => each[name] ?? null)])}
        />
      </div>
    </>
  );
}

/** Values by name, those of each side in a column under its head. */
function Sides({ heads, rows }: { heads: string[]; rows: [string, unknown[]][] }): ReactNode {
  return (
    <table className="small" style={{ borderCollapse: "collapse", marginBottom: 10 }}>
      {heads.length > 0 && (
        <thead>
          <tr>
            <td />
            {heads.map((head) => (
              <th key={head} scope="col" style={{ textAlign: "left", paddingRight: 24 }}>
                {head}
              </th>
            ))}
          </tr>
        </thead>
      )}
      <tbody>
        {rows.map(([name, values]) => (
          <tr key={name}>
            <th scope="row" className="soft" style={{ textAlign: "left", verticalAlign: "top", paddingRight: 16, fontWeight: 400 }}>
              {name}
            </th>
            {values.map((value, number) => (
              <td key={number} style={{ whiteSpace: "pre-wrap", paddingRight: 24, verticalAlign: "top" }}>
                {shown(value)}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
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
              {shown(value)}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function shown(value: unknown): ReactNode {
  if (empty(value)) return <span className="soft">no value</span>;
  return typeof value === "string" ? value : isFigure(value) ? figure(value as number) : JSON.stringify(value);
}

function empty(value: unknown): boolean {
  return value === null || value === "" || (Array.isArray(value) && value.length === 0);
}
