/** What an intake would take now, newest first, and what that would cost; nothing is taken, but one thing on request. */
import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { call, type Preview } from "../../api/call";
import { useMay } from "../../api/may";
import { Problem, When } from "../../parts/bits";
import { count } from "../../parts/words";
import { costOf, placeOf, sizeOf } from "./coming";

interface Arrived {
  items: { item_id: string; known: boolean; held: boolean }[];
}

export function There({ flow, intake }: { flow: string; intake: string }): ReactNode {
  const client = useQueryClient();
  const may = useMay("reviewer");
  const found = useQuery({ queryKey: ["intakes", flow, intake, "there"], queryFn: () => call<Preview>("GET", `${placeOf(flow, intake)}/preview`), retry: false });
  const take = useMutation({
    mutationFn: (name: string) => call<Arrived>("POST", `/api/flows/${encodeURIComponent(flow)}/take`, { name, intake }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["intakes", flow] }),
  });
  if (found.error) return <Problem error={found.error} again={() => void found.refetch()} />;
  if (!found.data) return <p className="soft small">It is looked at…</p>;
  const would = found.data;
  const besides = [
    would.taken && `${would.taken.toLocaleString()} taken already`,
    would.early && `${would.early.toLocaleString()} from before its first day`,
    would.beyond && `${would.beyond.toLocaleString()} more than it may take`,
    ...Object.entries(would.let_go).map(([why, many]) => `${many.toLocaleString()} let go: ${why}`),
  ].filter(Boolean) as string[];
  const cost = costOf(would, would.currency);
  return (
    <div style={{ marginTop: 10 }}>
      <p style={{ margin: "0 0 6px" }}>
        {would.count === 0 ? "There is nothing that it would take." : `It would take ${count(would.count, "thing")}${would.makes === would.count ? "" : would.count === 1 ? ` that makes ${count(would.makes, "item")}` : ` that make ${count(would.makes, "item")}`}${would.size > 0 ? ` (${sizeOf(would.size)})` : ""}${cost && `, ${cost}`}.`}
      </p>
      {besides.map((each) => (
        <p key={each} className="soft small" style={{ margin: "2px 0" }}>
          {each}
        </p>
      ))}
      {take.error && <Problem error={take.error} />}
      {take.data?.items[0] && (
        <p className="note" role="status">
          {take.data.items[0].known ? "It was taken before: " : "It is taken: "}
          <Link to={`/arrivals/${take.data.items[0].item_id}`}>see what becomes of it</Link>
        </p>
      )}
      {would.items.length > 0 && (
        <div style={{ overflowX: "auto" }}>
          <table className="grid">
            <thead>
              <tr>
                <th>Name</th>
                <th>From</th>
                <th className="right">Size</th>
                <th>Not taken, since</th>
                <th>
                  <span className="unseen">Take it</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {would.items.map((each, number) => (
                <tr key={each.identity || `${each.name} ${number}`}>
                  <td className="clip" style={{ maxWidth: 320 }} title={each.name}>
                    {each.name}
                  </td>
                  <td>{each.at > 0 && <When at={each.at} />}</td>
                  <td className="right mono small">{sizeOf(each.size)}</td>
                  <td className="soft small">{each.why}</td>
                  <td>
                    {may && each.why !== "It was taken already." && (
                      <Button size="compact-xs" variant="subtle" aria-label={`Take ${each.name}`} loading={take.isPending && take.variables === (each.identity || each.name)} onClick={() => take.mutate(each.identity || each.name)}>
                        Take it
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </div>
  );
}
