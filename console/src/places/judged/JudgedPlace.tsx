/** What the steps of a run have judged: the page on one side, what was said on the other, each with the words that it rests on. */
import { useQuery } from "@tanstack/react-query";
import { useMemo, useState, type ReactNode } from "react";
import { Link, useParams } from "react-router";
import { call, type Evidence, type Judged, type JudgedStep } from "../../api/call";
import { Problem } from "../../parts/bits";
import { Keys } from "../../parts/keys";
import { Head } from "../../parts/Shell";
import { Viewer } from "../record/Viewer";
import { Marks } from "./Marks";
import { Quotes } from "./Quotes";

export const fetchJudged = (run: string) => ({ queryKey: ["judged", run], queryFn: () => call<Judged>("GET", `/api/runs/${run}/judged`) });

export function JudgedPlace(): ReactNode {
  const { run = "" } = useParams();
  const found = useQuery(fetchJudged(run));
  if (found.error) return <Problem error={found.error} again={() => void found.refetch()} />;
  if (!found.data) return <Head title="What was judged" />;
  if (found.data.items.length === 0) return <Head title={found.data.item_name}>No step of this run has judged it.</Head>;
  return <Sides key={run} run={run} judged={found.data} />;
}

/** The evidence of quotes by where they stand: the path of the step and the number within it. */
export function evidenceOf(steps: JudgedStep[]): Record<string, Evidence> {
  const found: Record<string, Evidence> = {};
  for (const step of steps) step.quotes.forEach((quote, number) => quote.evidence && (found[`/${step.path}/${number}`] = quote.evidence));
  return found;
}

function Sides({ run, judged }: { run: string; judged: Judged }): ReactNode {
  const evidence = useMemo(() => evidenceOf(judged.items), [judged.items]);
  const pointers = useMemo(() => judged.items.flatMap((step) => step.quotes.map((_, number) => `/${step.path}/${number}`)), [judged.items]);
  const first = pointers.find((each) => each in evidence) ?? pointers[0] ?? "";
  const [active, setActive] = useState(first);
  const [page, setPage] = useState(() => evidence[first]?.page || 1);
  const [zoom, setZoom] = useState(1);
  const sha256 = judged.items.find((step) => step.document)?.document ?? "";
  const choose = (pointer: string): void => {
    setActive(pointer);
    setPage(evidence[pointer]?.page || page);
    window.requestAnimationFrame(() => document.querySelector(`[data-pointer="${pointer}"]`)?.scrollIntoView({ block: "nearest" }));
  };
  const step = (by: number): void => {
    const next = pointers[Math.min(Math.max(pointers.indexOf(active) + by, 0), pointers.length - 1)];
    if (next) choose(next);
  };
  const last = Math.max(1, ...Object.values(evidence).map((each) => each.page));
  const keys = [
    { key: "j", does: "next", run: () => step(1) },
    { key: "k", does: "the one before", run: () => step(-1) },
    { key: "]", does: "next page", run: () => setPage(Math.min(page + 1, last)) },
    { key: "[", does: "page before", run: () => setPage(Math.max(page - 1, 1)) },
    { key: "+", does: "larger", run: () => setZoom(Math.min(zoom + 0.25, 3)) },
    { key: "-", does: "smaller", run: () => setZoom(Math.max(zoom - 0.25, 0.5)) },
  ];
  return (
    <div className={sha256 ? "desk" : ""}>
      <Keys keys={keys} />
      {sha256 && <Viewer sha256={sha256} evidence={evidence} active={active} troubled={new Set()} zoom={zoom} page={page} setPage={setPage} choose={choose} take={null} bar={<span className="clip">{judged.item_name}</span>} />}
      <section aria-label="What was judged">
        <header style={{ marginBottom: 10 }}>
          <h1 style={{ fontSize: 21 }}>{judged.item_name}</h1>
          <p className="soft small" style={{ margin: 0 }}>
            <Link to={`/flows/${judged.flow}`}>{judged.flow}</Link> · <Link to={`/arrivals/${judged.item_id}`}>its run</Link>
          </p>
        </header>
        {judged.items.map((each) =>
          each.judgement ? <Marks key={each.path} run={run} step={each} judgement={each.judgement} active={active} choose={choose} /> : <Quotes key={each.path} step={each} active={active} choose={choose} />,
        )}
      </section>
    </div>
  );
}
