/** The journal of a run: steps with a thin time bar; opening one shows what went in and came out. */
import { createContext, useContext, useState, type ReactNode } from "react";
import { stringify } from "lossless-json";
import type { Entry } from "../api/call";
import { Stages, type Stage } from "./Stages";
import { picturesOf, said, stepsOf, type Step } from "./steps";
import { shown } from "./words";

const SIGNS: Record<string, [string, string, string]> = {
  done: ["✓", "done", "good"],
  failed: ["×", "failed", "stopped"],
  asked: ["!", "asks a person", "person"],
  answered: ["✓", "answered", "good"],
  begun: ["›", "under way", ""],
  looked: ["…", "not there yet", ""],
  started: ["·", "began", ""],
  continued: ["›", "continued", ""],
  cancelled: ["×", "cancelled", "stopped"],
};

const Run = createContext("");

export function Journal({ entries, run, running = false }: { entries: Entry[]; run: string; running?: boolean }): ReactNode {
  const steps = stepsOf(entries);
  if (steps.length === 0) return <p style={{ padding: "4px 14px 10px", margin: 0 }}>{running ? "Its first step is under way." : "This run has not begun."}</p>;
  const from = Math.min(...steps.map((step) => step.from));
  const to = Math.max(...steps.map((step) => step.to), from + 1);
  return (
    <Run value={run}>
      <ul className="list" aria-label="Steps">
        {steps.map((step) => (
          <li key={step.path}>
            <StepLine step={step} from={from} to={to} />
          </li>
        ))}
      </ul>
    </Run>
  );
}

function StepLine({ step, from, to }: { step: Step; from: number; to: number }): ReactNode {
  const [open, setOpen] = useState(false);
  const [sign, word, tone] = SIGNS[step.state] ?? ["·", step.state, ""];
  const left = ((step.from - from) / (to - from)) * 100;
  const wide = ((step.to - step.from) / (to - from)) * 100;
  const took = step.to - step.from;
  return (
    <>
      <button className="step" onClick={() => setOpen(!open)} aria-expanded={open}>
        <span className={`stamp ${tone}`} aria-hidden>
          {sign}
        </span>
        <span className="clip">
          <b>{step.path}</b> <span className="soft small">{step.kind}</span>
        </span>
        <span className={`stamp small ${tone}`}>
          {word}
          {step.tries > 1 ? `, ${step.tries} tries` : ""}
        </span>
        <span className="bar-time wide" title={`${took} ms`}>
          <i style={{ left: `${Math.min(left, 99)}%`, width: `${Math.max(Math.min(wide, 100 - left), 0)}%` }} />
        </span>
        <span className="mono small right wide">{took < 10_000 ? `${took} ms` : `${(took / 1000).toFixed(1)} s`}</span>
        <span className="clip soft small wide" title={said(step)}>
          {said(step)}
        </span>
      </button>
      {open && (step.inner.length > 0 ? <Inner steps={step.inner} from={from} to={to} /> : <InAndOut step={step} />)}
    </>
  );
}

function Inner({ steps, from, to }: { steps: Step[]; from: number; to: number }): ReactNode {
  const [most, setMost] = useState(40);
  return (
    <div style={{ paddingLeft: 22 }}>
      {steps.slice(0, most).map((step) => (
        <StepLine key={step.path} step={step} from={from} to={to} />
      ))}
      {steps.length > most && (
        <button className="word" style={{ margin: 8 }} onClick={() => setMost(steps.length)}>
          show all {steps.length}
        </button>
      )}
    </div>
  );
}

function InAndOut({ step }: { step: Step }): ReactNode {
  const [raw, setRaw] = useState(false);
  const stages = stagesOf(step);
  return (
    <div className="io">
      {stages && <Stages stages={stages} />}
      <button className="word" aria-pressed={raw} onClick={() => setRaw(!raw)}>
        raw
      </button>
      {step.entries.map((entry) => (
        <div key={entry.number}>
          <p className="small soft" style={{ margin: "8px 0 2px" }}>
            {entry.number}. {entry.event} at {new Date(entry.at).toLocaleTimeString()}
          </p>
          <Pictures pictures={picturesOf(entry.data)} />
          {raw ? <pre className="mono">{stringify(entry.data, undefined, 1)}</pre> : <Leaves data={entry.data} />}
        </div>
      ))}
    </div>
  );
}

/** Pictures of screens, and charts, that a step made: an image leads to itself in full size. */
function Pictures({ pictures }: { pictures: { told: string; file: string }[] }): ReactNode {
  const run = useContext(Run);
  if (pictures.length === 0 || !run) return null;
  return (
    <div className="seen">
      {pictures.map((each, number) => {
        const address = `/api/runs/${run}/made/${each.file}`;
        return (
          <figure key={number}>
            <a href={address} target="_blank" rel="noreferrer">
              <img src={address} alt={each.told} loading="lazy" />
            </a>
            <figcaption className="small soft">{each.told}</figcaption>
          </figure>
        );
      })}
    </div>
  );
}

/** The stages of an extract step, as its result tells them. */
function stagesOf(step: Step): Stage[] | null {
  const result = step.entries.find((entry) => entry.event === "done")?.data["result"] as { stages?: Stage[] } | undefined;
  return result?.stages ?? null;
}

/** Plain data as a table of names and values, not deeper or longer than one can read. */
function Leaves({ data }: { data: unknown }): ReactNode {
  const rows: [string, string][] = [];
  const walk = (value: unknown, name: string, depth: number): void => {
    if (rows.length > 120) return;
    if (typeof value === "object" && value !== null && !("isLosslessNumber" in value) && depth < 6) {
      for (const [key, part] of Object.entries(value)) walk(part, name ? `${name}.${key}` : key, depth + 1);
    } else rows.push([name, shown(value)]);
  };
  walk(data, "", 0);
  return (
    <table className="grid" style={{ maxWidth: 760 }}>
      <tbody>
        {rows.map(([name, value]) => (
          <tr key={name}>
            <td className="soft small" style={{ width: 260 }}>
              {name}
            </td>
            <td className="mono small">{value}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
