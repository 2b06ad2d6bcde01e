/** Today: what waits for a person first, then what came in and what became of it, then what it cost. */
import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { call, type Today as TodayData, type Waiting } from "../api/call";
import { Empty, Problem, Stamp, When } from "../parts/bits";
import { Keys } from "../parts/keys";
import { SpendPlot } from "../parts/SpendPlot";
import { Head } from "../parts/Shell";
import { count, figure } from "../parts/words";

/** Where a thing that waits is decided. */
export const target = (each: Waiting): string => (each.record_id ? `/records/${each.record_id}` : each.question_id ? `/questions/${each.question_id}` : `/arrivals/${each.item_id}`);

export function Today(): ReactNode {
  const today = useQuery({ queryKey: ["today"], queryFn: () => call<TodayData>("GET", "/api/today") });
  const [plot, setPlot] = useState(false);
  const client = useQueryClient();
  const goOn = useMutation({
    mutationFn: () => call("POST", "/api/runs/continue", {}),
    onSuccess: () => client.invalidateQueries(),
  });
  if (today.error) return <Problem error={today.error} again={() => void today.refetch()} />;
  if (!today.data) return <Head title="Today" />;
  const { waiting, flows, spend, problems, empty } = today.data;
  const parked = waiting.filter((each) => each.state === "parked").length;
  return (
    <>
      <Head title="Today">{new Date().toLocaleDateString(undefined, { weekday: "long", day: "numeric", month: "long" })}</Head>
      {problems.map((each) => (
        <div key={each} className="note">
          {each}
        </div>
      ))}
      {empty && <First data={today.data} />}
      {!empty && (
        <>
          <h2>{waiting.length ? `${count(waiting.length, "thing")} for you` : "Nothing waits for you"}</h2>
          <WaitingList waiting={waiting} />
          {parked > 0 && (
            <Button mt={10} variant="default" size="compact-md" loading={goOn.isPending} onClick={() => goOn.mutate()}>
              Continue {count(parked, "parked run")}
            </Button>
          )}
          {goOn.error && <Problem error={goOn.error} />}
          <h2>What came in</h2>
          {flows.map((flow) => (
            <p key={flow.flow} style={{ margin: "0 0 6px" }}>
              <Link to={`/arrivals?flow=${flow.flow}`}>{flow.flow}</Link>: {became(flow)}
            </p>
          ))}
          <h2>What it cost</h2>
          <p className="mono" style={{ margin: 0 }}>
            {figure(spend.cost)} <span className="small">{spend.currency}</span>
            {Number(spend.limit) > 0 && <span className="small soft"> of {figure(spend.limit)} that may be spent a day</span>}
          </p>
          <p className="soft small" style={{ margin: 0 }}>
            {count(spend.calls, "model call")}, {spend.input_tokens.toLocaleString()} tokens read and {spend.output_tokens.toLocaleString()} written, by {today.data.model}.{" "}
            <button className="word" aria-expanded={plot} onClick={() => setPlot(!plot)}>
              {plot ? "close the plot" : "show four weeks"}
            </button>
          </p>
          {plot && <SpendPlot />}
        </>
      )}
    </>
  );
}

function became(flow: TodayData["flows"][number]): string {
  if (flow.came === 0) return "nothing came in today.";
  const parts = [
    `${flow.came} came`,
    flow.written && `${flow.written} written`,
    flow.otherwise && `${flow.otherwise} there with other values`,
    flow.waits && `${flow.waits} ${flow.waits === 1 ? "waits" : "wait"} for you`,
    flow.parked && `${flow.parked} parked`,
    flow.stopped && `${flow.stopped} with nothing to write`,
    flow.refused && `${flow.refused} refused`,
    flow.working && `${flow.working} under way`,
  ];
  return `${parts.filter(Boolean).join(", ")}.`;
}

/** What waits, one line each; moved through with j and k, opened with Enter. */
export function WaitingList({ waiting }: { waiting: Waiting[] }): ReactNode {
  const [on, setOn] = useState(0);
  const go = useNavigate();
  const keys = useMemo(
    () => [
      { key: "j", does: "next line", run: () => setOn((n) => Math.min(n + 1, waiting.length - 1)) },
      { key: "k", does: "line before", run: () => setOn((n) => Math.max(n - 1, 0)) },
      { key: "Enter", does: "open the line", run: () => waiting[on] && void go(target(waiting[on])) },
    ],
    [waiting, on, go],
  );
  if (waiting.length === 0) return <Keys keys={[]} />;
  return (
    <ul className="list sheet">
      <Keys keys={keys} />
      {waiting.map((each, number) => (
        <li key={each.run_id}>
          <Link className={`line waits ${number === on ? "on" : ""}`} to={target(each)}>
            <Stamp state={each.state} />
            <span className="clip" title={each.title ?? each.item_name}>
              {each.title ?? each.item_name}
            </span>
            <span className="clip soft wide" title={each.message}>
              {each.message}
            </span>
            <span className="right wide">
              <When at={each.since} />
            </span>
          </Link>
        </li>
      ))}
    </ul>
  );
}

function First({ data }: { data: TodayData }): ReactNode {
  const flow = data.flows[0];
  return (
    <Empty>
      <h2 style={{ marginTop: 0 }}>Nothing has come in yet</h2>
      <p>
        {flow
          ? `The flow ${flow.flow} is ready. Put a file into its folder, or send one here. What came in then stands on this page, with what became of it.`
          : "There is no flow yet. Keep one with “metrikon flows put FILE”. Then put a file into its folder, or send one here."}
      </p>
      {flow && (
        <Button component={Link} to="/arrivals">
          Send a file
        </Button>
      )}
    </Empty>
  );
}
