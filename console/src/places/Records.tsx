/** Records: a grid with sort, filter, columns of one's choice and export; a cell opens its evidence. */
import { Button, Checkbox, Popover, Select } from "@mantine/core";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useSearchParams } from "react-router";
import { call, query, type RecordPage, type RecordRow, type RecordTypes } from "../api/call";
import { Empty, Problem, Stamp } from "../parts/bits";
import { Keys } from "../parts/keys";
import { Head } from "../parts/Shell";
import { count, isFigure, shown } from "../parts/words";

const FILTERS = [
  { word: "all", state: "" },
  { word: "waits for you", state: "waits" },
  { word: "nothing wrong", state: "clear" },
  { word: "approved", state: "approved" },
  { word: "refused", state: "refused" },
  { word: "replaced", state: "replaced" },
];
const SORTS: [string, string][] = [["title", "What"], ["state", "State"], ["item", "File"]];

interface Column {
  name: string;
  title: string;
  figure: boolean;
}

export function Records(): ReactNode {
  const [params, setParams] = useSearchParams();
  const state = params.get("state") ?? "";
  const q = params.get("q") ?? "";
  const sort = params.get("sort") ?? "-id";
  const types = useQuery({ queryKey: ["types"], queryFn: () => call<RecordTypes>("GET", "/api/record-types") });
  const kind = params.get("type") ?? types.data?.items[0]?.name ?? "";
  const [hidden, setHidden] = useState<string[]>(["document_type", "vendor", "number", "vendor_tax_id", "due_date", "order_number", "net", "tax"]);
  const set = (name: string, value: string): void => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  const found = useInfiniteQuery({
    queryKey: ["records", kind, state, q, sort],
    queryFn: ({ pageParam }) => call<RecordPage>("GET", `/api/records${query({ record_type: kind, state, q, sort, cursor: pageParam })}`),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    enabled: Boolean(kind) || types.isSuccess,
  });
  const rows = found.data?.pages.flatMap((page) => page.items) ?? [];
  const columns = columnsOf(types.data, kind);
  const seen = columns.filter((each) => !hidden.includes(each.name));
  const turn = (name: string): void => set("sort", sort === name ? `-${name}` : name);
  return (
    <>
      <Keys keys={[]} />
      <Head title="Records">Every record that was read, with its values. Open one to see where each value stands.</Head>
      <div className="filters">
        {FILTERS.map((each) => (
          <button key={each.word} className="word" aria-pressed={state === each.state} onClick={() => set("state", each.state)}>
            {each.word}
          </button>
        ))}
        <input className="word" style={{ cursor: "text", width: 150 }} aria-label="Filter by value" placeholder="value or file holds …" defaultValue={q} onChange={(event) => set("q", event.currentTarget.value)} />
        {(types.data?.items.length ?? 0) > 1 && <Select aria-label="Record type" size="xs" w={130} data={types.data?.items.map((each) => each.name) ?? []} value={kind} onChange={(value) => set("type", value ?? "")} />}
        <span style={{ flex: 1 }} />
        <Columns columns={columns} hidden={hidden} setHidden={setHidden} />
        {kind && (
          <Button component="a" variant="default" size="compact-md" href={`/api/records.csv${query({ record_type: kind, state, q })}`}>
            Export as CSV
          </Button>
        )}
      </div>
      {found.error && <Problem error={found.error} again={() => void found.refetch()} />}
      {found.data && rows.length === 0 && (
        <Empty>
          <p style={{ margin: 0 }}>{state || q ? "No record fits these filters. Choose “all” to see every record." : "No record was read yet. Send a file under Arrivals; its record then stands here."}</p>
        </Empty>
      )}
      {rows.length > 0 && (
        <div className="sheet scroll" style={{ maxHeight: "calc(100vh - 210px)" }}>
          <table className="grid">
            <thead>
              <tr>
                {SORTS.map(([name, title]) => (
                  <th key={name} aria-sort={sort === name ? "ascending" : sort === `-${name}` ? "descending" : "none"}>
                    <button onClick={() => turn(name)}>
                      {title} {sort === name ? "▲" : sort === `-${name}` ? "▼" : ""}
                    </button>
                  </th>
                ))}
                {seen.map((each) => (
                  <th key={each.name} className={each.figure ? "right" : ""}>
                    {each.title}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <Line key={row.id} row={row} columns={seen} />
              ))}
            </tbody>
          </table>
        </div>
      )}
      {found.hasNextPage && (
        <Button mt={12} variant="default" loading={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
          Show more
        </Button>
      )}
    </>
  );
}

function Line({ row, columns }: { row: RecordRow; columns: Column[] }): ReactNode {
  return (
    <tr>
      <td style={{ maxWidth: 330 }} className="clip">
        <Link to={`/records/${row.id}`} title={row.title || "no key values"}>
          {row.title || "no key values"}
        </Link>
      </td>
      <td>
        <Stamp state={row.state} />
      </td>
      <td className="clip soft small" style={{ maxWidth: 200 }} title={row.item_name}>
        {row.item_name}
      </td>
      {columns.map((each) => {
        const value = row.values[each.name];
        const text = Array.isArray(value) ? count(value.length, "row") : shown(value);
        return (
          <td key={each.name} className={`mono ${isFigure(value) ? "right" : ""} clip`} style={{ maxWidth: 240 }}>
            <Link to={`/records/${row.id}?field=/${each.name}`} style={{ color: "inherit", textDecoration: "none" }} title={`${text} — open its evidence`}>
              {text}
            </Link>
          </td>
        );
      })}
    </tr>
  );
}

function Columns({ columns, hidden, setHidden }: { columns: Column[]; hidden: string[]; setHidden: (names: string[]) => void }): ReactNode {
  return (
    <Popover position="bottom-end">
      <Popover.Target>
        <Button variant="default" size="compact-md">
          Columns
        </Button>
      </Popover.Target>
      <Popover.Dropdown>
        {columns.map((each) => (
          <Checkbox
            key={each.name}
            mb={6}
            label={each.title}
            checked={!hidden.includes(each.name)}
            onChange={(event) => setHidden(event.currentTarget.checked ? hidden.filter((name) => name !== each.name) : [...hidden, each.name])}
          />
        ))}
      </Popover.Dropdown>
    </Popover>
  );
}

function columnsOf(types: RecordTypes | undefined, kind: string): Column[] {
  const text = types?.items.find((each) => each.name === kind)?.text;
  if (!text) return [];
  const schema = JSON.parse(text) as { properties?: Record<string, { title?: string; type?: string }> };
  return Object.entries(schema.properties ?? {}).map(([name, part]) => ({ name, title: part.title ?? name, figure: part.type === "number" }));
}
