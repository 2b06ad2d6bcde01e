/** The rows of a list in a grid, with their sum and its difference to the printed one. */
import { Button } from "@mantine/core";
import type { ReactNode } from "react";
import type { Field } from "../../api/call";
import { at, exactDifference, exactSum, type Values } from "../../parts/pointers";
import { count, figure, isFigure, shown } from "../../parts/words";
import type { Draft } from "./draft";
import { Editor } from "./Value";

export interface RowsProps {
  list: string;
  fields: Field[];
  draft: Draft;
  active: string;
  editing: boolean;
  taken: string | null;
  troubled: Set<string>;
  may: boolean;
  choose: (pointer: string) => void;
  edit: (pointer: string) => void;
  keep: (text: string) => void;
  leave: () => void;
}

export function Rows({ list, fields, draft, active, editing, taken, troubled, may, choose, edit, keep, leave }: RowsProps): ReactNode {
  const rows = (at(draft.values, list) as Values[] | undefined) ?? [];
  const sum = exactSum(rows.map((row) => row["amount"]));
  const net = at(draft.values, "/net") ?? at(draft.values, "/total");
  const apart = sum !== null && isFigure(net) ? exactDifference(sum, net) : null;
  return (
    <div className="sheet rows" style={{ marginTop: 16 }}>
      <div className="scroll" style={{ maxHeight: 420 }}>
        <table className="grid">
          <thead>
            <tr>
              <th className="right">#</th>
              {fields.map((field) => (
                <th key={field.name} className={field.kind === "amount" ? "right" : ""}>
                  {field.title}
                </th>
              ))}
              {may && <th />}
            </tr>
          </thead>
          <tbody>
            {rows.map((row, number) => (
              <tr key={number}>
                <td className="soft small right">{number + 1}</td>
                {fields.map((field) => {
                  const pointer = `${list}/${number}/${field.name}`;
                  const on = pointer === active;
                  return (
                    <td
                      key={field.name}
                      data-pointer={pointer}
                      className={`mono cell ${field.kind === "amount" ? "num" : ""} ${on ? "on" : ""} ${troubled.has(pointer) ? "bad" : ""}`}
                      onClick={() => choose(pointer)}
                      onDoubleClick={() => edit(pointer)}
                    >
                      {on && editing ? <Editor field={field} value={row[field.name]} taken={taken} keep={keep} leave={leave} /> : shown(row[field.name])}
                    </td>
                  );
                })}
                {may && (
                  <td>
                    <button className="word" aria-label={`Remove row ${number + 1}`} title="Remove this row" onClick={() => draft.dropRow(list, number)}>
                      −
                    </button>
                  </td>
                )}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div style={{ display: "flex", gap: 16, alignItems: "center", padding: "8px 12px", borderTop: "1px solid var(--hair)", flexWrap: "wrap" }}>
        {may && (
          <Button size="compact-xs" variant="default" onClick={() => draft.addRow(list)}>
            Add a row
          </Button>
        )}
        <span className="soft small">{count(rows.length, "row")}</span>
        <span style={{ flex: 1 }} />
        {sum !== null && (
          <span>
            Sum <b className="mono">{figure(sum)}</b>
          </span>
        )}
        {apart !== null && (Number(apart) === 0 ? <span className="stamp good" data-sign="✓">agrees</span> : <span className="stamp stopped" data-sign="≠">{figure(apart)} apart from what is printed</span>)}
      </div>
    </div>
  );
}
