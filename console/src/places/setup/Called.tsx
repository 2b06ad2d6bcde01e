/** The latest calls that were made by a connection, without what was sent. */
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { call, type OutsideCalls } from "../../api/call";
import { Problem, When } from "../../parts/bits";

export function Called({ name }: { name: string }): ReactNode {
  const found = useQuery({ queryKey: ["connections", name, "calls"], queryFn: () => call<OutsideCalls>("GET", `/api/connections/${encodeURIComponent(name)}/calls`) });
  if (found.error) return <Problem error={found.error} />;
  if (found.data?.items.length === 0) return <p className="soft small">No call was made by it yet.</p>;
  return (
    <div style={{ gridColumn: "1 / -1", overflowX: "auto" }}>
      <table className="grid">
        <thead>
          <tr>
            <th>When</th>
            <th>Flow</th>
            <th>Address</th>
            <th className="right">Answer</th>
            <th className="right">Took</th>
          </tr>
        </thead>
        <tbody>
          {found.data?.items.map((each, number) => (
            <tr key={`${each.at} ${number}`}>
              <td>
                <When at={each.at} />
              </td>
              <td>{each.flow}</td>
              <td className="mono small" style={{ overflowWrap: "anywhere" }}>
                {each.method} {each.address}
                {each.error && <span className="soft"> {each.error}</span>}
              </td>
              <td className="right mono small">{each.status || "none"}</td>
              <td className="right mono small">{each.took.toLocaleString()} ms</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
