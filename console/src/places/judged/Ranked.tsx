/** What a flow has judged, the best first; judged again beside anchors, to see who would move before anything changes. */
import { Button, Checkbox, Modal, NumberInput, Select } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import { call, type JudgeAgain, type JudgementList, type JudgementRow, type Rejudging } from "../../api/call";
import { useMay } from "../../api/may";
import { Problem, When } from "../../parts/bits";
import { count } from "../../parts/words";

const COLUMNS = 6; // criteria that have a column of their own

export const fetchJudgements = (flow: string) => ({ queryKey: ["judgements", flow], queryFn: () => call<JudgementList>("GET", `/api/flows/${encodeURIComponent(flow)}/judgements`) });

export function Ranked({ flow }: { flow: string }): ReactNode {
  const found = useQuery(fetchJudgements(flow));
  const builder = useMay("builder");
  const [step, setStep] = useState<string | null>(null);
  const [again, setAgain] = useState(false);
  if (found.error) return <Problem error={found.error} again={() => void found.refetch()} />;
  if (!found.data) return null;
  const at = step ?? found.data.steps[0]?.step ?? "";
  const rows = found.data.items.filter((each) => each.step === at);
  const beside = found.data.steps.find((each) => each.step === at);
  return (
    <>
      <div className="filters">
        {found.data.steps.length > 1 && <Select size="xs" aria-label="Step" data={found.data.steps.map((each) => each.step)} value={at} onChange={setStep} allowDeselect={false} w={160} />}
        <span className="soft small" style={{ flex: 1 }}>
          {rows.length > 0 && `${count(rows.length, "document")}, the best first. `}
          {beside && beside.anchors.length > 0 ? (
            <>
              Judged beside {count(beside.anchors.length, "anchor")} ({beside.anchors.map((each) => `${each.total} %`).join(", ")}), chosen by {beside.by} <When at={beside.since ?? 0} />.
            </>
          ) : (
            "No anchors keep the level yet: set some marks right, then judge again and choose anchors."
          )}
        </span>
        {builder && rows.length > 0 && (
          <Button size="compact-sm" variant="default" onClick={() => setAgain(true)}>
            Judge again…
          </Button>
        )}
      </div>
      {rows.length === 0 ? <p className="soft">Nothing was judged by it so far.</p> : <Rows rows={rows} />}
      {again && <Again flow={flow} step={at} labels={[...new Set(rows.map((each) => each.label))]} close={() => setAgain(false)} />}
    </>
  );
}

function Rows({ rows }: { rows: JudgementRow[] }): ReactNode {
  const go = useNavigate();
  const names = [...new Set(rows.flatMap((each) => each.marks.map((mark) => mark.name)))].slice(0, COLUMNS);
  return (
    <div className="sheet scroll">
      <table className="grid ranked">
        <thead>
          <tr>
            <th className="right">place</th>
            <th>document</th>
            <th className="right">total</th>
            <th>label</th>
            {names.map((name) => (
              <th key={name} className="right">
                {name.replaceAll("_", " ")}
              </th>
            ))}
            <th>besides</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((each) => (
            <tr key={each.id} onClick={() => void go(`/judged/${each.run_id}`)}>
              <td className="mono right">{1 + rows.filter((other) => other.total > each.total).length}</td>
              <td>
                <a
                  href={`/judged/${each.run_id}`}
                  onClick={(event) => {
                    event.preventDefault();
                    void go(`/judged/${each.run_id}`);
                  }}
                >
                  {each.item_name}
                </a>
              </td>
              <td className="right" style={{ whiteSpace: "nowrap" }}>
                <span className="total" aria-hidden>
                  <i style={{ width: `${each.total}%` }} />
                </span>
                <span className="mono figure">{each.total} %</span>
              </td>
              <td>{each.label}</td>
              {names.map((name) => {
                const mark = each.marks.find((one) => one.name === name);
                return (
                  <td key={name} className="mono right">
                    {mark ? mark.mark : ""}
                    {mark && <span className="soft small">/{mark.of}</span>}
                  </td>
                );
              })}
              <td className="small">{besides(each)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function besides(row: JudgementRow): ReactNode {
  const told = [
    row.corrected_by ? `set right by ${row.corrected_by}` : "",
    row.answered_by && !row.corrected_by ? `labelled by ${row.answered_by}` : "",
    row.stand_in ? "by a stand-in" : "",
    row.current ? "" : "by other criteria",
  ].filter(Boolean);
  return (
    <>
      {row.needs_person && (
        <span className="stamp person" data-sign="!">
          look{" "}
        </span>
      )}
      <span className="soft">{told.join(", ")}</span>
    </>
  );
}

function Again({ flow, step, labels, close }: { flow: string; step: string; labels: string[]; close: () => void }): ReactNode {
  const client = useQueryClient();
  const at = `/api/flows/${encodeURIComponent(flow)}/judge-again`;
  const [label, setLabel] = useState<string | null>(null);
  const [renew, setRenew] = useState(false);
  const [anchors, setAnchors] = useState(3);
  const [id, setId] = useState("");
  const wanted = { step, label: label ?? "", renew, anchors };
  const told = useQuery({ queryKey: ["judgements", flow, "again", wanted], queryFn: () => call<JudgeAgain>("POST", at, wanted), enabled: !id, retry: false });
  const begin = useMutation({ mutationFn: (yes: number) => call<JudgeAgain>("POST", at, { ...wanted, count: yes }), onSuccess: (found) => setId(found.id ?? "") });
  const found = useQuery({
    queryKey: ["rejudging", id],
    queryFn: () => call<Rejudging>("GET", `/api/rejudgings/${id}`),
    enabled: Boolean(id),
    refetchInterval: (now) => (now.state.data && now.state.data.state !== "running" ? false : 700),
  }).data;
  const moving = found?.moves.filter((each) => each.moved).length ?? 0;
  const take = useMutation({
    mutationFn: () => call<Rejudging>("POST", `/api/rejudgings/${id}/take`),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["judgements"] });
      close();
    },
  });
  return (
    <Modal opened onClose={close} title="Judge again, and see who would move" size="xl">
      {!id ? (
        <>
          <p className="soft small" style={{ marginTop: 0 }}>
            By the criteria that the flow has now. Nothing that it did changes.
          </p>
          <div style={{ display: "flex", gap: 16, flexWrap: "wrap", alignItems: "end" }}>
            <Select size="xs" label="Which" placeholder="all" clearable data={labels} value={label} onChange={setLabel} w={180} />
            <Checkbox label="Choose anchors anew" checked={renew} onChange={(event) => setRenew(event.currentTarget.checked)} />
            {renew && <NumberInput size="xs" label="How many" min={1} max={8} value={anchors} onChange={(value) => setAnchors(Number(value) || 1)} w={90} />}
          </div>
          {told.error && <Problem error={told.error} />}
          {told.data && !told.error && (
            <p>
              {count(told.data.count, "document")}, about {count(told.data.requests, "request")} and {count(told.data.tokens, "token")}
              {Number(told.data.cost) > 0 && `, ${told.data.cost}`}; beside{" "}
              {told.data.anchors.length ? `${count(told.data.anchors.length, "anchor")} (${told.data.anchors.map((each) => `${each.total} %${each.corrected ? ", set right" : ""}`).join("; ")})` : "no anchors"}.
            </p>
          )}
          {begin.error && <Problem error={begin.error} />}
          <Button disabled={!told.data || Boolean(told.error) || told.data.count === 0} loading={begin.isPending} onClick={() => begin.mutate(told.data?.count ?? 0)}>
            Judge them again
          </Button>
        </>
      ) : (
        found && (
          <>
            <progress className="far" max={found.count} value={found.done} aria-label="How far it is" />
            <p role="status">
              {found.done} of {found.count} judged again; {moving === 0 ? "none" : moving} would move.
              {found.problem && ` It ${found.state}: ${found.problem}`}
            </p>
            <Moves moves={found.moves} />
            {take.error && <Problem error={take.error} />}
            {found.renewed && (
              <Button disabled={found.state !== "done"} loading={take.isPending} onClick={() => take.mutate()}>
                Let these anchors count from now on
              </Button>
            )}
          </>
        )
      )}
    </Modal>
  );
}

function Moves({ moves }: { moves: Rejudging["moves"] }): ReactNode {
  const told = moves.filter((each) => each.moved || each.problem);
  if (told.length === 0) return null;
  return (
    <div className="sheet scroll" style={{ maxHeight: 340, marginBottom: 12 }}>
      <table className="grid">
        <thead>
          <tr>
            <th>document</th>
            <th className="right">total</th>
            <th>label</th>
            <th className="right">place</th>
            <th>marks</th>
          </tr>
        </thead>
        <tbody>
          {told.map((each) => (
            <tr key={each.id}>
              <td>{each.name}</td>
              {each.problem ? (
                <td colSpan={4}>{each.problem}</td>
              ) : (
                <>
                  <td className="mono right">
                    {each.total} → {each.new_total} %
                  </td>
                  <td>{each.label === each.new_label ? each.label : `${each.label} → ${each.new_label}`}</td>
                  <td className="mono right">
                    {each.place} → {each.new_place}
                  </td>
                  <td className="small">{each.marks.map(([name, was, is]) => `${String(name)} ${String(was ?? "none")} → ${String(is ?? "none")}`).join(", ")}</td>
                </>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
