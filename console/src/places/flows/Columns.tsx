/** Fields to columns: the real columns of a destination, what a flow puts into each, with the values of what stands beside; suggested, and kept by a person. */
import { Autocomplete, Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type FlowPage, type Mapping, type MappingList } from "../../api/call";
import { useMay } from "../../api/may";
import { Empty, Problem } from "../../parts/bits";
import { Beside, useBeside, type Beside as Seen } from "./Beside";
import { asSaid, asShown, exampleOf, firstRow, unmapped } from "./mapping";
import { putText } from "./put";

export function Columns({ flow }: { flow: FlowPage }): ReactNode {
  const beside = useBeside(flow.name);
  const found = useQuery({ queryKey: ["flow-mapping", flow.text], queryFn: () => call<MappingList>("POST", "/api/flows-mapping", undefined, flow.text), staleTime: 10_000 });
  if (found.error) return <Problem error={found.error} again={() => void found.refetch()} />;
  if (!found.data) return <p className="soft small">The columns are looked at …</p>;
  if (found.data.items.length === 0) return <Empty>This flow writes no rows. A step with `write` puts values into the columns of a destination.</Empty>;
  return (
    <>
      <Beside flow={flow.name} beside={beside} />
      {found.data.items.map((each) => (
        <One key={`${each.place} ${flow.version}`} flow={flow} mapping={each} beside={beside} />
      ))}
    </>
  );
}

function One({ flow, mapping, beside }: { flow: FlowPage; mapping: Mapping; beside: Seen }): ReactNode {
  const client = useQueryClient();
  const builder = useMay("builder");
  const first: Record<string, string> = Object.fromEntries(mapping.columns.map((each) => [each.name, asShown(each.value)]));
  const [said, setSaid] = useState(first);
  const fits = mapping.columns.filter((each) => each.suggested && !said[each.name]);
  const changed = mapping.columns.some((each) => said[each.name] !== first[each.name]);
  const row = firstRow(mapping.step, beside.tried);
  const keep = useMutation({
    mutationFn: async () => {
      const columns = Object.fromEntries(mapping.columns.filter((each) => said[each.name]).map((each) => [each.name, asSaid(said[each.name] ?? "", each.value)]));
      const { text } = await call<{ text: string }>("POST", "/api/flows-remap", { text: flow.text, place: mapping.place, columns });
      return putText(flow.name, text, `Columns of ${mapping.destination}`);
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["flows"] }),
  });
  const fields = mapping.fields.map((each) => `\${${each.expression}}`);
  return (
    <section aria-label={`Columns of ${mapping.destination}`} style={{ marginBottom: 26 }}>
      <h2 style={{ marginBottom: 4 }}>
        {mapping.step} → {mapping.destination}
      </h2>
      <p className="soft small" style={{ margin: "0 0 8px" }}>
        {mapping.why || (mapping.grows ? "A column that is not there yet is added with the first row." : "These are its columns; it takes no others.")}
      </p>
      <div style={{ overflowX: "auto" }}>
        <table className="grid sheet mapping">
          <thead>
            <tr>
              <th>Column</th>
              <th>Holds</th>
              <th>What is put into it</th>
              <th>{row ? "The first row" : "For what stands beside"}</th>
            </tr>
          </thead>
          <tbody>
            {mapping.columns.map((each) => (
              <tr key={each.name}>
                <td>
                  <b>{each.name}</b> {!each.there && <span className="soft small">new</span>}
                </td>
                <td className="soft small">
                  {each.kind}
                  {each.wanted && (
                    <span className={said[each.name] ? "" : "stamp stopped"} data-sign={said[each.name] ? undefined : "!"}>
                      {" "}
                      must have a value
                    </span>
                  )}
                </td>
                <td>
                  {builder ? (
                    <Autocomplete
                      aria-label={`What is put into ${each.name}`}
                      size="xs"
                      data={fields}
                      limit={40}
                      maxDropdownHeight={260}
                      placeholder={each.suggested ? `seems to fit: \${${each.suggested}}` : "nothing"}
                      value={said[each.name] ?? ""}
                      onChange={(to) => setSaid({ ...said, [each.name]: to })}
                      renderOption={({ option }) => (
                        <span>
                          <span className="mono small">{option.value}</span> <span className="soft small">{exampleOf(option.value, beside.values)}</span>
                        </span>
                      )}
                    />
                  ) : (
                    <span className="mono small">{said[each.name]}</span>
                  )}
                </td>
                <td className="mono small clip" style={{ maxWidth: 260 }}>
                  {said[each.name] === first[each.name] && row ? asShown(row[each.name]) : exampleOf(said[each.name] ?? "", beside.values)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {builder && (
        <div style={{ display: "flex", flexWrap: "wrap", gap: 8, marginTop: 10, alignItems: "center" }}>
          <Button loading={keep.isPending} disabled={!changed || unmapped(mapping, said)} onClick={() => keep.mutate()}>
            Keep it as version {flow.version + 1}
          </Button>
          {fits.length > 0 && (
            <Button variant="default" onClick={() => setSaid({ ...said, ...Object.fromEntries(fits.map((each) => [each.name, `\${${each.suggested}}`])) })}>
              Take what seems to fit ({fits.length})
            </Button>
          )}
          {changed && (
            <Button variant="subtle" onClick={() => setSaid(first)}>
              Undo all
            </Button>
          )}
        </div>
      )}
      {keep.error && <Problem error={keep.error} />}
    </section>
  );
}
