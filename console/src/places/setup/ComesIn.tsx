/** Where items come from, flow by flow; each leads to what is there, what it would cost, and what was let go. */
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { call, type FlowRow } from "../../api/call";
import { Empty, Problem } from "../../parts/bits";
import { standing } from "../flows/reading";

export function ComesIn(): ReactNode {
  const found = useQuery({ queryKey: ["flows"], queryFn: () => call<{ items: FlowRow[] }>("GET", "/api/flows") });
  return (
    <>
      <h2>What comes in</h2>
      {found.error && <Problem error={found.error} again={() => void found.refetch()} />}
      {found.data?.items.length === 0 && <Empty>There is no flow yet. A flow says where its items come from: a folder, a mailbox, a form, a schedule.</Empty>}
      <ul className="list sheet">
        {found.data?.items.map((each) => (
          <li key={each.name} className="line typeline">
            <Link to={`/flows/${each.name}?look=intakes`}>{each.name}</Link>
            <span>{(each.comes ?? []).join("; ")}</span>
            <span className="soft small">{standing(each).word}</span>
          </li>
        ))}
      </ul>
    </>
  );
}
