/** A flow: a numbered reading list with what each step gave; its text, checked as it is typed; its versions with what changed. */
import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState, type ReactNode } from "react";
import { useParams, useSearchParams } from "react-router";
import { call, type FlowPage } from "../../api/call";
import { Problem, When } from "../../parts/bits";
import { Keys } from "../../parts/keys";
import { Head } from "../../parts/Shell";
import { count, outline } from "../../parts/words";
import { fetchJudgements, Ranked } from "../judged/Ranked";
import { Beside, useBeside } from "./Beside";
import { Columns } from "./Columns";
import { CopyFlow } from "./CopyFlow";
import { FlowText } from "./FlowText";
import { Intakes } from "./Intakes";
import { problemsAt, resultOf, standing, wouldOf } from "./reading";

type Look = "steps" | "intakes" | "columns" | "judged" | "text" | "versions";
const LOOKS: { look: Look; word: string; key: string }[] = [
  { look: "steps", word: "steps", key: "s" },
  { look: "intakes", word: "what comes in", key: "i" },
  { look: "columns", word: "columns", key: "c" },
  { look: "judged", word: "judged", key: "g" },
  { look: "text", word: "text", key: "t" },
  { look: "versions", word: "versions", key: "v" },
];

export function FlowPlace(): ReactNode {
  const { name = "" } = useParams();
  const flow = useQuery({ queryKey: ["flows", name], queryFn: () => call<FlowPage>("GET", `/api/flows/${encodeURIComponent(name)}`) });
  const [asked] = useSearchParams();
  const [look, setLook] = useState<Look>(asked.get("look") === "intakes" ? "intakes" : "steps");
  const marks = Boolean(useQuery({ ...fetchJudgements(name), retry: false }).data?.steps.length);
  const looks = useMemo(() => LOOKS.filter((each) => each.look !== "judged" || marks), [marks]);
  const keys = useMemo(() => looks.map((each) => ({ key: each.key, does: each.look === "judged" ? "show what it has judged" : each.look === "intakes" ? "show what comes in" : `show its ${each.word}`, run: () => setLook(each.look) })), [looks]);
  if (flow.error) return <Problem error={flow.error} again={() => void flow.refetch()} />;
  if (!flow.data) return <Head title={name} />;
  const found = flow.data;
  return (
    <>
      <Keys keys={keys} />
      <Head title={name}>{found.about || `${found.comes.join(", ")} → ${found.goes.join(", ")}`}</Head>
      <Switches flow={found} />
      <Foretold flow={name} />
      <div className="filters" role="group" aria-label="What is shown">
        {looks.map((each) => (
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
      {look === "intakes" && <Intakes flow={name} />}
      {look === "columns" && <Columns key={found.version} flow={found} />}
      {look === "judged" && <Ranked flow={name} />}
      {look === "text" && <FlowText key={found.version} flow={found} />}
      {look === "versions" && <Versions flow={found} />}
    </>
  );
}

/** What is to be told of a flow before it takes anything in. */
function Foretold({ flow }: { flow: string }): ReactNode {
  const found = useQuery({ queryKey: ["flows", flow, "foretold"], queryFn: () => call<{ told: string[] }>("GET", `/api/flows/${encodeURIComponent(flow)}/foretold`), retry: false });
  return found.data?.told.map((each) => (
    <p key={each} className="note" style={{ margin: "0 0 10px" }}>
      {each}
    </p>
  ));
}

function Switches({ flow }: { flow: FlowPage }): ReactNode {
  const client = useQueryClient();
  const [copying, setCopying] = useState(false);
  const turn = useMutation({
    mutationFn: (to: { running: boolean; paused: boolean }) => call("POST", `/api/flows/${encodeURIComponent(flow.name)}/switch`, to),
    onSuccess: () => client.invalidateQueries({ queryKey: ["flows"] }),
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
      <Button size="compact-sm" variant="default" onClick={() => setCopying(true)}>
        Copy it…
      </Button>
      <Button size="compact-sm" variant="default" component="a" href={`/api/flows/${encodeURIComponent(flow.name)}/export`} download>
        Export it
      </Button>
      {turn.error && <Problem error={turn.error} />}
      {copying && <CopyFlow flow={flow} close={() => setCopying(false)} />}
    </div>
  );
}

function Steps({ flow }: { flow: FlowPage }): ReactNode {
  const beside = useBeside(flow.name);
  return (
    <>
      <Beside flow={flow.name} beside={beside} />
      <ol className="reading sheet" aria-label="Steps">
        {flow.lines.map((line, number) => {
          const gave = line.step ? resultOf(line.step, beside.values) : "";
          const would = line.step ? wouldOf(line.step, beside.tried) : "";
          return (
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
              <span className={`small soft clip gave ${would ? "" : "mono"}`} title={would || gave}>
                {would || gave}
              </span>
            </li>
          );
        })}
      </ol>
      {flow.problems
        .filter((each) => !flow.lines.some((line) => line.step && line.step === each.step))
        .map((each) => (
          <div key={each.place + each.message} className="note bad">
            {each.place}: {each.message} <span className="soft small">(line {each.line})</span>
          </div>
        ))}
      {flow.settings.length > 0 && (
        <>
          <h2>Settings</h2>
          <table className="grid sheet" style={{ maxWidth: 760 }}>
            <tbody>
              {flow.settings.map((each) => (
                <tr key={each.name}>
                  <td className="mono">{each.name}</td>
                  <td className="mono">{outline(each.value)}</td>
                  <td className="soft">{each.about}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
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
