/** What stands beside the steps of a flow: what they gave for an item that came in, or what they would do with a sample. */
import { Button, Select, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, query, type RunPage, type RunValue, type SampleList, type TriedFlow } from "../../api/call";
import { Problem } from "../../parts/bits";
import { exactTime, STATES } from "../../parts/words";

const TRIED: Record<string, string> = {
  done: "It came to its end.",
  stopped: "It ended early.",
  refused: "It was refused.",
  parked: "It would be parked.",
  asks: "It would ask a person:",
  waits: "It would wait.",
};

export interface Beside {
  choices: { group: string; items: { value: string; label: string }[] }[];
  chosen: string | null;
  choose: (to: string | null) => void;
  values: RunValue[];
  tried: TriedFlow | undefined;
  item: string | undefined;
  busy: boolean;
  error: Error | null;
}

export function useBeside(flow: string): Beside {
  const at = `/api/flows/${encodeURIComponent(flow)}`;
  const runs = useQuery({ queryKey: ["runs", flow], queryFn: () => call<RunPage>("GET", `/api/runs${query({ flow, limit: 30 })}`) });
  const samples = useQuery({ queryKey: ["flows", flow, "samples"], queryFn: () => call<SampleList>("GET", `${at}/samples`) });
  const [wanted, setWanted] = useState<string | null>(null);
  const every = runs.data?.items ?? [];
  const kept = samples.data?.items ?? [];
  const usual = every.find((each) => each.state === "done") ?? every[0];
  const first = usual ? `run ${usual.id}` : kept[0] ? `sample ${kept[0].name}` : null;
  const chosen = wanted ?? first;
  const [kind = "", ...rest] = (chosen ?? "").split(" ");
  const name = rest.join(" ");
  const values = useQuery({ queryKey: ["run", "values", name], queryFn: () => call<{ items: RunValue[] }>("GET", `/api/runs/${name}/values`), enabled: kind === "run" });
  const tried = useQuery({ queryKey: ["flows", flow, "tried", name], queryFn: () => call<TriedFlow>("POST", `${at}/try${query({ sample: name })}`), enabled: kind === "sample", staleTime: 60_000 });
  return {
    choices: [
      { group: "Samples", items: kept.map((each) => ({ value: `sample ${each.name}`, label: `${each.name}: ${each.file_name}${each.why ? ` (${each.why})` : ""}` })) },
      { group: "What came in", items: every.map((each) => ({ value: `run ${each.id}`, label: `${each.item_name ?? ""} (${STATES[each.state]?.word ?? each.state}, ${exactTime(each.created_at)})` })) },
    ].filter((each) => each.items.length > 0),
    chosen,
    choose: setWanted,
    values: kind === "run" ? (values.data?.items ?? []) : (tried.data?.values ?? []),
    tried: kind === "sample" ? tried.data : undefined,
    item: kind === "run" ? every.find((each) => each.id === name)?.item_id : undefined,
    busy: values.isFetching || tried.isFetching,
    error: runs.error ?? samples.error ?? values.error ?? tried.error,
  };
}

export function Beside({ flow, beside }: { flow: string; beside: Beside }): ReactNode {
  if (beside.error) return <Problem error={beside.error} />;
  if (beside.choices.length === 0) return <p className="soft">Nothing has come in yet. When something has, what each step gave stands beside it.</p>;
  return (
    <div style={{ display: "flex", flexWrap: "wrap", gap: 10, alignItems: "end", marginBottom: 10 }}>
      <Select size="xs" label="Beside each step stands what it gave for" data={beside.choices} value={beside.chosen} onChange={beside.choose} allowDeselect={false} w={520} maw="100%" searchable />
      {beside.item && <KeepSample key={beside.item} flow={flow} item={beside.item} />}
      {beside.tried && (
        <span className="soft small" role="status">
          Tried; nothing left the house. {TRIED[beside.tried.stands] ?? "It was tried as far as wanted."} {beside.tried.reason}
        </span>
      )}
      {beside.busy && <span className="soft small">Looking…</span>}
    </div>
  );
}

function KeepSample({ flow, item }: { flow: string; item: string }): ReactNode {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [why, setWhy] = useState("");
  const keep = useMutation({
    mutationFn: () => call<SampleList>("PUT", `/api/flows/${encodeURIComponent(flow)}/samples/${encodeURIComponent(name)}${query({ item, why })}`),
    onSuccess: () => client.invalidateQueries({ queryKey: ["flows", flow, "samples"] }),
  });
  if (keep.data)
    return (
      <span className="soft small" role="status">
        Kept as the sample {name}.
      </span>
    );
  if (!open)
    return (
      <Button size="compact-sm" variant="default" onClick={() => setOpen(true)}>
        Keep it as a sample…
      </Button>
    );
  return (
    <form
      style={{ display: "flex", gap: 8, alignItems: "end", flexWrap: "wrap" }}
      onSubmit={(event) => {
        event.preventDefault();
        keep.mutate();
      }}
    >
      <TextInput size="xs" label="Name of the sample" autoFocus value={name} onChange={(event) => setName(event.currentTarget.value)} />
      <TextInput size="xs" label="Why it is kept" value={why} onChange={(event) => setWhy(event.currentTarget.value)} />
      <Button size="compact-sm" type="submit" disabled={!name} loading={keep.isPending}>
        Keep it
      </Button>
      {keep.error && <Problem error={keep.error} />}
    </form>
  );
}
