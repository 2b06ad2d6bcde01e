/** Flows: each in one line: what comes in, what goes out, whether it is on, what is wrong with it. */
import { useQuery } from "@tanstack/react-query";
import { useMemo, useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { call, type FlowRow } from "../../api/call";
import { Empty, Problem } from "../../parts/bits";
import { Keys } from "../../parts/keys";
import { Head } from "../../parts/Shell";
import { count } from "../../parts/words";
import { standing } from "./reading";

export function Flows(): ReactNode {
  const flows = useQuery({ queryKey: ["flows"], queryFn: () => call<{ items: FlowRow[] }>("GET", "/api/flows") });
  const [on, setOn] = useState(0);
  const go = useNavigate();
  const every = useMemo(() => flows.data?.items ?? [], [flows.data]);
  const keys = useMemo(
    () => [
      { key: "j", does: "next flow", run: () => setOn((n) => Math.min(n + 1, every.length - 1)) },
      { key: "k", does: "flow before", run: () => setOn((n) => Math.max(n - 1, 0)) },
      { key: "Enter", does: "open the flow", run: () => every[on] && void go(`/flows/${every[on].name}`) },
    ],
    [every, on, go],
  );
  if (flows.error) return <Problem error={flows.error} again={() => void flows.refetch()} />;
  return (
    <>
      <Keys keys={keys} />
      <Head title="Flows">What is done with what comes in.</Head>
      {flows.data && every.length === 0 && (
        <Empty>
          <p style={{ margin: 0 }}>
            There is no flow yet. Write one as a file (YAML), look it over with <code>metrikon flows check FILE</code>, and keep it with <code>metrikon flows put FILE</code>. It stands here then.
          </p>
        </Empty>
      )}
      {every.length > 0 && (
        <ul className="list sheet">
          {every.map((each, number) => (
            <li key={each.name}>
              <Link className={`line flowline ${number === on ? "on" : ""}`} to={`/flows/${each.name}`}>
                <b className="clip" title={each.name}>
                  {each.name}
                </b>
                <span className="clip soft" title={`${each.comes?.join(", ") ?? ""} → ${each.goes?.join(", ") ?? ""}`}>
                  {each.comes?.join(", ") || "nothing comes in"} → {each.goes?.join(", ") || "nothing goes out"}
                </span>
                <span className={each.wrong ? "stamp stopped" : "soft small"} data-sign={each.wrong ? "!" : undefined}>
                  {each.wrong ? count(each.wrong, "problem") : `version ${each.version}`}
                </span>
                <span className={`stamp ${standing(each).tone}`} data-sign={standing(each).sign}>
                  {standing(each).word}
                </span>
              </Link>
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
