/** A flow: a numbered reading list with what each step gave; its text, checked as it is typed; its versions with what changed. */
import { Button, Select, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState, type ReactNode } from "react";
import { useNavigate, useParams } from "react-router";
import { call, query, type FlowPage, type RunPage, type RunValue } from "../../api/call";
import { Problem, When } from "../../parts/bits";
import { Keys } from "../../parts/keys";
import { Head } from "../../parts/Shell";
import { count, exactTime, STATES } from "../../parts/words";
import { FlowText } from "./FlowText";
import { problemsAt, renamed, resultOf, standing } from "./reading";

type Look = "steps" | "text" | "versions";
const LOOKS: { look: Look; word: string; key: string }[] = [
  { look: "steps", word: "steps", key: "s" },
  { look: "text", word: "text", key: "t" },
  { look: "versions", word: "versions", key: "v" },
];

export function FlowPlace(): ReactNode {
  const { name = "" } = useParams();
  const flow = useQuery({ queryKey: ["flows", name], queryFn: () => call<FlowPage>("GET", `/api/flows/${encodeURIComponent(name)}`) });
  const [look, setLook] = useState<Look>("steps");
  const keys = useMemo(() => LOOKS.map((each) => ({ key: each.key, does: `show its ${each.word}`, run: () => setLook(each.look) })), []);
  if (flow.error) return <Problem error={flow.error} again={() => void flow.refetch()} />;
  if (!flow.data) return <Head title={name} />;
  const found = flow.data;
  return (
    <>
      <Keys keys={keys} />
      <Head title={name}>{found.about || `${found.comes.join(", ")} → ${found.goes.join(", ")}`}</Head>
      <Switches flow={found} />
      <div className="filters" role="group" aria-label="What is shown">
        {LOOKS.map((each) => (
          <button key={each.look} className="word" aria-pressed={look === each.look} onClick={() => setLook(each.look)}>
            {each.word}
          </button>
        ))}
        {found.problems.length > 0 && (
          <span className="stamp stopped" data-sign="!">
            {count(found.problems.length, "problem")}
          </span>
        )}
      </div>
      {look === "steps" && <Steps flow={found} />}
      {look === "text" && <FlowText key={found.version} flow={found} />}
      {look === "versions" && <Versions flow={found} />}
    </>
  );
}

function Switches({ flow }: { flow: FlowPage }): ReactNode {
  const client = useQueryClient();
  const go = useNavigate();
  const [copy, setCopy] = useState("");
  const turn = useMutation({
    mutationFn: (to: { running: boolean; paused: boolean }) => call("POST", `/api/flows/${encodeURIComponent(flow.name)}/switch`, to),
    onSuccess: () => client.invalidateQueries({ queryKey: ["flows"] }),
  });
  const copied = useMutation({
    mutationFn: async () => {
      const response = await putText(copy, renamed(flow.text, copy), `copied from ${flow.name}`);
      return response.name;
    },
    onSuccess: async (made) => {
      await client.invalidateQueries({ queryKey: ["flows"] });
      void go(`/flows/${made}`);
    },
  });
  const now = standing(flow);
  const ways: { word: string; to: { running: boolean; paused: boolean } }[] = [
    { word: "on", to: { running: true, paused: false } },
    { word: "paused", to: { running: true, paused: true } },
    { word: "off", to: { running: false, paused: false } },
  ];
  const told: Record<string, string> = { on: "What comes in is worked on.", paused: "What comes in waits, and no run is worked on.", off: "It takes nothing in; what came in before is worked on." };
  return (
    <div style={{ display: "flex", flexWrap: "wrap", gap: 10, alignItems: "end", marginBottom: 14 }}>
      <div className="filters" role="group" aria-label="On, paused or off" style={{ margin: 0 }}>
        {ways.map((way) => (
          <button key={way.word} className="word" aria-pressed={now.word === way.word} disabled={turn.isPending} onClick={() => turn.mutate(way.to)}>
            {way.word}
          </button>
        ))}
      </div>
      <span className="soft small" style={{ flex: 1, minWidth: 200 }}>
        {told[now.word]}
      </span>
      <TextInput size="xs" aria-label="Name of a copy" placeholder="name of a copy" value={copy} onChange={(event) => setCopy(event.currentTarget.value)} />
      <Button size="compact-sm" variant="default" disabled={!copy} loading={copied.isPending} onClick={() => copied.mutate()}>
        Copy it
      </Button>
      {(turn.error ?? copied.error) && <Problem error={(turn.error ?? copied.error) as Error} />}
    </div>
  );
}

/** Keep the text of a flow. */
export async function putText(name: string, text: string, why: string): Promise<{ name: string; version: number }> {
  return call("PUT", `/api/flows/${encodeURIComponent(name)}${query({ why })}`, undefined, text);
}

function Steps({ flow }: { flow: FlowPage }): ReactNode {
  const runs = useQuery({ queryKey: ["runs", flow.name], queryFn: () => call<RunPage>("GET", `/api/runs${query({ flow: flow.name, limit: 30 })}`) });
  const every = runs.data?.items ?? [];
  const [chosen, setChosen] = useState<string | null>(null);
  const run = every.find((each) => each.id === chosen) ?? every.find((each) => each.state === "done") ?? every[0];
  const values = useQuery({
    queryKey: ["run", "values", run?.id],
    queryFn: () => call<{ items: RunValue[] }>("GET", `/api/runs/${run?.id ?? ""}/values`),
    enabled: run !== undefined,
  });
  const names = every.map((each) => ({ value: each.id, label: `${each.item_name ?? ""} (${STATES[each.state]?.word ?? each.state}, ${exactTime(each.created_at)})` }));
  return (
    <>
      {run ? (
        <Select size="xs" label="Beside each step stands what it gave for" data={names} value={run.id} onChange={setChosen} allowDeselect={false} maw={520} mb={10} searchable />
      ) : (
        runs.data && <p className="soft">Nothing has come in yet. When something has, what each step gave stands beside it.</p>
      )}
      <ol className="reading sheet" aria-label="Steps">
        {flow.lines.map((line, number) => (
          <li key={number} className={line.step ? "" : "way"} style={{ paddingLeft: 14 + line.depth * 22 }}>
            <span className="mono soft small count">{line.number}</span>
            <div style={{ minWidth: 0 }}>
              <span>{line.sentence}</span>
              {line.more.length > 0 && <span className="soft small"> {line.more.join(" ")}</span>}
              {problemsAt(line, flow.problems).map((each) => (
                <div key={each.place + each.message} className="note bad" style={{ margin: "6px 0" }}>
                  {each.message} <span className="soft small">(line {each.line})</span>
                </div>
              ))}
            </div>
            <span className="mono small soft clip gave" title={line.step ? resultOf(line.step, values.data?.items ?? []) : ""}>
              {line.step ? resultOf(line.step, values.data?.items ?? []) : ""}
            </span>
          </li>
        ))}
      </ol>
      {flow.problems
        .filter((each) => !flow.lines.some((line) => line.step && line.step === each.step))
        .map((each) => (
          <div key={each.place + each.message} className="note bad">
            {each.place}: {each.message} <span className="soft small">(line {each.line})</span>
          </div>
        ))}
    </>
  );
}

function Versions({ flow }: { flow: FlowPage }): ReactNode {
  return (
    <ul className="list sheet">
      {flow.versions.map((each) => (
        <li key={each.version} style={{ padding: "10px 14px" }}>
          <div style={{ display: "flex", gap: 12, alignItems: "baseline" }}>
            <b>Version {each.version}</b>
            <When at={each.created_at} />
            {each.put_by && <span className="soft small">by {each.put_by}</span>}
            {each.why && <span>“{each.why}”</span>}
          </div>
          {each.changes.length > 0 ? (
            <ul style={{ margin: "4px 0 0", paddingLeft: 20 }}>
              {each.changes.map((change) => (
                <li key={change}>{change}</li>
              ))}
            </ul>
          ) : (
            <p className="soft small" style={{ margin: "4px 0 0" }}>
              The first that is kept.
            </p>
          )}
        </li>
      ))}
    </ul>
  );
}
