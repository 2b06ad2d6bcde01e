/** What an intake did not take, the latest, each with the reason; what was sent may be kept as a sample. */
import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { call, type LetGo } from "../../api/call";
import { useMay } from "../../api/may";
import { Problem, When } from "../../parts/bits";
import { placeOf } from "./coming";

export function Gone({ flow, intake, sent }: { flow: string; intake: string; sent: boolean }): ReactNode {
  const client = useQueryClient();
  const builder = useMay("builder");
  const found = useQuery({ queryKey: ["intakes", flow, intake, "gone"], queryFn: () => call<LetGo>("GET", `${placeOf(flow, intake)}/let-go`) });
  const keep = useMutation({
    mutationFn: (identity: string) => call("PUT", `/api/flows/${encodeURIComponent(flow)}/samples/sent-${Date.now()}?intake=${encodeURIComponent(intake)}&let_go=${encodeURIComponent(identity)}`),
    onSuccess: () => client.invalidateQueries({ queryKey: ["flows", flow] }),
  });
  if (found.error) return <Problem error={found.error} again={() => void found.refetch()} />;
  return (
    <div style={{ overflowX: "auto", marginTop: 10 }}>
      {keep.error && <Problem error={keep.error} />}
      <table className="grid">
        <thead>
          <tr>
            <th>Name</th>
            <th>From</th>
            <th>Why it was let go</th>
            {sent && builder && (
              <th>
                <span className="unseen">Keep it</span>
              </th>
            )}
          </tr>
        </thead>
        <tbody>
          {found.data?.items.map((each) => (
            <tr key={each.identity}>
              <td className="clip" style={{ maxWidth: 280 }} title={each.name}>
                {each.name}
              </td>
              <td>
                <When at={each.came_at} />
              </td>
              <td className="small">{each.why}</td>
              {sent && builder && (
                <td>
                  <Button size="compact-xs" variant="subtle" onClick={() => keep.mutate(each.identity)}>
                    Keep as a sample
                  </Button>
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
