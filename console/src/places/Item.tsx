/** An item: what came in, its runs, and the journal of each. */
import { Button, Modal, Textarea } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useParams } from "react-router";
import { call, type Correction, type EnteredSoFar, type HeardSoFar, type ItemDetail, type Run, type RunDetail } from "../api/call";
import { Problem, Stamp, When } from "../parts/bits";
import { Calls } from "../parts/Calls";
import { useMay } from "../api/may";
import { Journal } from "../parts/Journal";
import { TakeBack } from "../parts/TakeBack";
import { WentOut } from "../parts/WentOut";
import { Keys } from "../parts/keys";
import { Head } from "../parts/Shell";
import { count, figure, outline } from "../parts/words";
import { Waits, waitsWith } from "./Waits";

const SETTLED = ["done", "stopped", "refused"];
const LOOK_AGAIN = 2000; // milliseconds, while a run goes on: often enough to see it move

function goesOn(state: string): boolean {
  return state === "ready" || state === "running";
}

export function ItemPlace(): ReactNode {
  const { id = "" } = useParams();
  const item = useQuery({
    queryKey: ["item", id],
    queryFn: () => call<ItemDetail>("GET", `/api/items/${id}`),
    refetchInterval: ({ state: { data } }) => (data?.runs.some((run) => goesOn(run.state)) ? LOOK_AGAIN : false),
  });
  const client = useQueryClient();
  const again = useMutation({
    mutationFn: (anew: string) => (anew ? call("POST", `/api/runs/${anew}/again`, { anew: true }) : call("POST", `/api/items/${id}/runs`, {})),
    onSuccess: () => client.invalidateQueries(),
  });
  const builder = useMay("builder");
  const [open, setOpen] = useState<string | null>(null);
  if (item.error) return <Problem error={item.error} again={() => void item.refetch()} />;
  if (!item.data) return <Head title="…" />;
  const { data } = item;
  const latest = data.runs[0];
  const shown = open ?? latest?.id ?? null;
  const anew = latest && [...SETTLED, "parked", "review"].includes(latest.state);
  return (
    <>
      <Keys keys={[]} />
      <Head title={data.name}>
        Came in by {data.intake} <When at={data.received_at} />, {figure(Math.ceil(data.size / 1024))} kB, flow {data.flow}. <a href={`/api/files/${data.sha256}`}>Save the file</a>
      </Head>
      {again.error && <Problem error={again.error} />}
      {data.runs.map((run) => (
        <section key={run.id} className="sheet" style={{ marginBottom: 14 }}>
          <RunHead run={run} open={run.id === shown} toggle={() => setOpen(run.id === shown ? "" : run.id)} />
          {run.id === shown && <RunBody id={run.id} />}
        </section>
      ))}
      {anew && (
        <div style={{ display: "flex", gap: 10, flexWrap: "wrap" }}>
          <Button variant="default" loading={again.isPending} onClick={() => again.mutate("")}>
            {latest.state === "parked" ? "Run it anew, on the newest version of its flow" : "Run it again"}
          </Button>
          {builder && latest.calls > 0 && (
            <Button variant="subtle" loading={again.isPending} onClick={() => again.mutate(latest.id)} title="What models answered before is not used; they are paid again.">
              Run it again, and ask its models anew
            </Button>
          )}
        </div>
      )}
    </>
  );
}

function RunHead({ run, open, toggle }: { run: Run; open: boolean; toggle: () => void }): ReactNode {
  return (
    <div style={{ display: "flex", gap: 14, alignItems: "baseline", padding: "10px 14px", flexWrap: "wrap" }}>
      <Stamp state={run.state} />
      <span style={{ flex: 1, minWidth: 200 }}>{run.reason}</span>
      <span className="soft small">
        {count(run.calls, "model call")}, {(run.input_tokens + run.output_tokens).toLocaleString()} tokens, cost {figure(run.cost)}
      </span>
      <When at={run.created_at} />
      <Button size="compact-xs" variant="subtle" onClick={toggle} aria-expanded={open}>
        {open ? "Close" : "Open"}
      </Button>
    </div>
  );
}

function RunBody({ id }: { id: string }): ReactNode {
  const client = useQueryClient();
  const run = useQuery({
    queryKey: ["run", id],
    queryFn: () => call<RunDetail>("GET", `/api/runs/${id}`),
    refetchInterval: ({ state: { data } }) => (data && goesOn(data.state) ? LOOK_AGAIN : false),
  });
  const builder = useMay("builder");
  const [cancelling, setCancelling] = useState(false);
  const cancel = useMutation({ mutationFn: (comment: string) => call("POST", `/api/runs/${id}/cancel`, { comment }), onSuccess: () => client.invalidateQueries() });
  const goOn = useMutation({
    mutationFn: (said: string) => call("POST", `/api/runs/${id}/continue${said && `?${said}`}`, {}),
    onSuccess: () => client.invalidateQueries(),
  });
  if (run.error) return <Problem error={run.error} again={() => void run.refetch()} />;
  if (!run.data) return null;
  const { state, record_id, journal } = run.data;
  const judged = journal.some((each) => typeof each.data.result === "object" && each.data.result !== null && "stand_in" in each.data.result);
  const waits = state === "parked" ? waitsWith(journal) : undefined;
  const sent = (run.data.deliveries ?? []).some((each) => each.state === "written");
  const goes = waits ? undefined : { parked: "Continue from the step that failed", held: "Run it anyway", waiting: "Try at once" }[state as string];
  return (
    <div style={{ borderTop: "1px solid var(--hair)" }}>
      {waits && <Waits {...waits} run={id} flow={run.data.flow} say={(what) => goOn.mutate(what)} busy={goOn.isPending} />}
      {(goes ?? record_id ?? (judged || sent || !SETTLED.includes(state))) && (
        <div style={{ display: "flex", gap: 10, padding: "10px 14px" }}>
          {record_id && (
            <Button component={Link} to={`/records/${record_id}`} size="compact-md" variant={state === "review" ? "filled" : "default"}>
              {state === "review" ? "Look at the record" : "Open the record"}
            </Button>
          )}
          {judged && (
            <Button component={Link} to={`/judged/${id}`} size="compact-md" variant="default">
              See what was judged, and its words
            </Button>
          )}
          {goes && (
            <Button size="compact-md" loading={goOn.isPending} onClick={() => goOn.mutate("")}>
              {goes}
            </Button>
          )}
          {SETTLED.includes(state) && sent && builder && <TakeBack run={id} />}
          {!SETTLED.includes(state) && (
            <Button size="compact-md" variant="subtle" onClick={() => setCancelling(true)}>
              Cancel…
            </Button>
          )}
        </div>
      )}
      {goOn.error && <Problem error={goOn.error} />}
      {cancel.error && <Problem error={cancel.error} />}
      <Cancel opened={cancelling} close={() => setCancelling(false)} cancel={(comment) => cancel.mutate(comment)} />
      <div style={{ padding: "0 14px" }}>
        <WentOut all={(run.data.deliveries ?? []).filter((each) => each.state !== "written" || each.error)} />
      </div>
      <Corrections all={run.data.corrections ?? []} />
      {run.data.heard && <Heard {...run.data.heard} goesOn={goesOn(state)} />}
      {run.data.entering && <Entering {...run.data.entering} />}
      <Journal entries={run.data.journal} run={run.data.id} running={state === "running"} />
      <Calls run={id} />
    </div>
  );
}

/** Values that people corrected, with who did it. */
function Corrections({ all }: { all: Correction[] }): ReactNode {
  if (all.length === 0) return null;
  return (
    <ul className="small" style={{ margin: "0 0 8px", padding: "8px 14px 0 32px" }} aria-label="Corrected values">
      {all.map((each) => (
        <li key={`${each.path} ${each.at}`}>
          <span className="mono">{each.path}</span> is <span className="mono">{outline(each.value)}</span> as {each.by} corrected it <When at={each.at} />
        </li>
      ))}
    </ul>
  );
}

/** How far an entry into a program is: a bar, and what is done now. */
function Entering({ done, in_all, at }: EnteredSoFar): ReactNode {
  const said = `Enters it now: ${at} (${done + 1} of ${in_all}).`;
  return (
    <div style={{ padding: "0 14px" }}>
      <p className="small" style={{ margin: "0 0 4px" }}>
        {said}
      </p>
      <progress className="far" max={in_all} value={done} aria-label={said} />
    </div>
  );
}

/** How far a long recording is: a bar, and the same in words. */
function Heard({ seconds, pieces, in_all, goesOn }: HeardSoFar & { goesOn: boolean }): ReactNode {
  const minutes = `${Math.floor(seconds / 60)}:${String(Math.floor(seconds % 60)).padStart(2, "0")}`;
  const said = `Heard ${minutes} of the recording, piece ${pieces} of ${in_all}.`;
  return (
    <div style={{ padding: "0 14px" }}>
      <p className="small" style={{ margin: "0 0 4px" }}>
        {said} {!goesOn && "This is kept: the run goes on after it."}
      </p>
      <progress className="far" max={in_all} value={pieces} aria-label={said} />
    </div>
  );
}

function Cancel({ opened, close, cancel }: { opened: boolean; close: () => void; cancel: (comment: string) => void }): ReactNode {
  const [comment, setComment] = useState("");
  return (
    <Modal opened={opened} onClose={close} title="Cancel this run">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          close();
          cancel(comment);
        }}
      >
        <Textarea data-autofocus label="Why" autosize minRows={2} value={comment} onChange={(event) => setComment(event.currentTarget.value)} />
        <p className="soft small">It ends where it stands. Rows that it has written stay; nothing more of it is done.</p>
        <Button type="submit" color="red">
          Cancel the run
        </Button>
      </form>
    </Modal>
  );
}
