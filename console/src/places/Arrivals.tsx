/** Arrivals: what came in, one line an item, and what became of it. */
import { Button, FileButton, Menu, Select } from "@mantine/core";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useSearchParams } from "react-router";
import { call, query, ServiceProblem, type Item, type ItemPage } from "../api/call";
import { getCsrf } from "../api/session";
import { Empty, Problem, Stamp, When } from "../parts/bits";
import { Keys } from "../parts/keys";
import { Head } from "../parts/Shell";

const FILTERS = [
  { word: "everything", state: "" },
  { word: "waits for you", state: "review,held" },
  { word: "likely repeats", state: "held" },
  { word: "parked", state: "parked" },
  { word: "refused", state: "refused" },
  { word: "written", state: "done" },
  { word: "under way", state: "ready,running,waiting" },
];

export function Arrivals(): ReactNode {
  const [params, setParams] = useSearchParams();
  const state = params.get("state") ?? "";
  const flow = params.get("flow") ?? "";
  const week = params.get("since") === "week";
  const q = params.get("q") ?? "";
  const [monday] = useState(() => Date.now() - 7 * 86_400_000);
  const set = (name: string, value: string): void => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  const flows = useQuery({ queryKey: ["flows"], queryFn: () => call<{ items: { name: string }[] }>("GET", "/api/flows") });
  const found = useInfiniteQuery({
    queryKey: ["items", "list", state, flow, week, q],
    queryFn: ({ pageParam }) => call<ItemPage>("GET", `/api/items${query({ state, flow, q, since: week ? monday : undefined, cursor: pageParam })}`),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
  });
  const items = found.data?.pages.flatMap((page) => page.items) ?? [];
  const names = flows.data?.items.map((each) => each.name) ?? [];
  const plain = !state && !flow && !week && !q;
  return (
    <>
      <Keys keys={[]} />
      <Head title="Arrivals">What came in, newest first. The list keeps itself current.</Head>
      <div className="filters" role="group" aria-label="Filters">
        {FILTERS.map((each) => (
          <button key={each.word} className="word" aria-pressed={state === each.state} onClick={() => set("state", each.state)}>
            {each.word}
          </button>
        ))}
        <button className="word" aria-pressed={week} onClick={() => set("since", week ? "" : "week")}>
          last seven days
        </button>
        {names.length > 1 && <Select aria-label="Flow" placeholder="every flow" size="xs" clearable data={names} value={flow || null} onChange={(value) => set("flow", value ?? "")} />}
        <input className="word" style={{ cursor: "text", width: 190 }} aria-label="Filter by file or value" placeholder="file or value holds …" defaultValue={q} onChange={(event) => set("q", event.currentTarget.value)} />
        <span style={{ flex: 1 }} />
        <Send flow={flow || (names.length === 1 ? (names[0] ?? "") : "")} flows={names} />
      </div>
      {state === "held" && (flow || names[0]) && <Repeats flow={flow} flows={names} />}
      {found.error && <Problem error={found.error} again={() => void found.refetch()} />}
      {found.data && items.length === 0 && (
        <Empty>
          <p style={{ margin: 0 }}>{plain ? "Nothing has come in yet. Put a file into the folder of a flow, or send one with the button above." : "Nothing fits these filters. Choose “everything” to see all that came in."}</p>
        </Empty>
      )}
      {items.length > 0 && (
        <ul className="list sheet">
          {items.map((item) => (
            <li key={item.id}>
              <Line item={item} />
            </li>
          ))}
        </ul>
      )}
      {found.hasNextPage && (
        <Button mt={12} variant="default" loading={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
          Show older ones
        </Button>
      )}
    </>
  );
}

/** All likely repeats of a flow, settled at once. */
function Repeats({ flow, flows }: { flow: string; flows: string[] }): ReactNode {
  const client = useQueryClient();
  const chosen = flow || (flows.length === 1 ? flows[0] : "");
  const held = useQuery({ queryKey: ["repeats", chosen], queryFn: () => call<{ count: number }>("GET", `/api/flows/${chosen ?? ""}/repeats`), enabled: Boolean(chosen) });
  const settle = useMutation({
    mutationFn: (what: string) => call("POST", `/api/flows/${chosen ?? ""}/repeats`, { do: what, count: held.data?.count ?? 0 }),
    onSuccess: () => client.invalidateQueries(),
  });
  if (!chosen) return <p className="soft small">Choose a flow to settle all of its likely repeats at once.</p>;
  if (!held.data || held.data.count === 0) return null;
  const { count } = held.data;
  return (
    <div style={{ display: "flex", gap: 10, alignItems: "baseline", flexWrap: "wrap", margin: "0 0 10px" }}>
      <span>
        {count === 1 ? "One item holds" : `${count} items hold`} the same as an earlier one of {chosen}.
      </span>
      <Button size="compact-md" variant="default" loading={settle.isPending} onClick={() => settle.mutate("take")}>
        {count === 1 ? "It is meant: run it" : "All are meant: run them"}
      </Button>
      <Button size="compact-md" variant="default" loading={settle.isPending} onClick={() => settle.mutate("let go")}>
        {count === 1 ? "It is a repeat: let it go" : "All are repeats: let them go"}
      </Button>
      {settle.error && <Problem error={settle.error} />}
    </div>
  );
}

function Line({ item }: { item: Item }): ReactNode {
  return (
    <Link className="line arrival" to={`/arrivals/${item.id}`}>
      <Thumb sha256={item.sha256} readable={item.state !== "refused"} />
      <span className="clip" title={item.name}>
        {item.name}
      </span>
      <span className="clip wide" title={item.title ?? ""}>
        {item.title ?? <span className="soft">by {item.intake}</span>}
        {item.record_count > 1 && <span className="soft"> and {item.record_count - 1} more</span>}
      </span>
      <Stamp state={item.state} />
      <span className="clip soft small wide" title={item.reason}>
        {item.reason}
      </span>
      <span className="right wide">
        <When at={item.received_at} />
      </span>
    </Link>
  );
}

function Thumb({ sha256, readable }: { sha256: string; readable: boolean }): ReactNode {
  const [broken, setBroken] = useState(false);
  if (!readable || broken) return <span className="thumb none">no page</span>;
  return <img className="thumb" loading="lazy" alt="" src={`/api/documents/${sha256}/pages/1/picture?dots=20`} onError={() => setBroken(true)} />;
}

/** Sends a file to the flow that is chosen; where none is, it is asked to which. */
function Send({ flow, flows }: { flow: string; flows: string[] }): ReactNode {
  const client = useQueryClient();
  const send = useMutation({
    mutationFn: async ({ to, file }: { to: string; file: File }) => {
      const response = await fetch(`/api/flows/${to}/items${query({ name: file.name })}`, {
        method: "POST",
        body: file,
        headers: { "X-CSRF-Token": getCsrf(), "Content-Type": "application/octet-stream" },
      });
      if (!response.ok) throw new ServiceProblem(response.status, ((await response.json()) as { detail: string }).detail);
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["items"] }),
  });
  if (flows.length === 0) return null;
  const told = send.error && <span className="stamp stopped small">{send.error.message}</span>;
  if (flow)
    return (
      <>
        {told}
        <FileButton onChange={(file) => file && send.mutate({ to: flow, file })}>
          {(props) => (
            <Button {...props} size="compact-md" loading={send.isPending} title={`It goes to the flow ${flow}`}>
              Send a file to {flow}
            </Button>
          )}
        </FileButton>
      </>
    );
  return (
    <>
      {told}
      <Menu position="bottom-end" keepMounted>
        <Menu.Target>
          <Button size="compact-md" loading={send.isPending}>
            Send a file
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          <Menu.Label>To which flow</Menu.Label>
          {flows.map((to) => (
            <FileButton key={to} onChange={(file) => file && send.mutate({ to, file })}>
              {(props) => <Menu.Item {...props}>{to}</Menu.Item>}
            </FileButton>
          ))}
        </Menu.Dropdown>
      </Menu>
    </>
  );
}
