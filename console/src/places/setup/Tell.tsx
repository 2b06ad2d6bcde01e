/** Telling an operation of a service by hand: how it is asked for, and what it takes. */
import { Button, Checkbox, Select, TextInput } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type Described } from "../../api/call";
import { Problem } from "../../parts/bits";

const METHODS = ["POST", "GET", "PATCH", "PUT", "DELETE"];
const KINDS = ["text", "number", "yes/no", "date", "date and time", "list", "context"];

interface Value {
  name: string;
  kind: string;
  wanted: boolean;
}

export function Tell({ path, kept }: { path: string; kept: (to: Described) => void }): ReactNode {
  const [open, setOpen] = useState(false);
  if (!open)
    return (
      <Button size="compact-sm" variant="subtle" mt={6} onClick={() => setOpen(true)}>
        Tell an operation by hand
      </Button>
    );
  return <Form path={path} kept={kept} close={() => setOpen(false)} />;
}

function Form({ path, kept, close }: { path: string; kept: (to: Described) => void; close: () => void }): ReactNode {
  const [name, setName] = useState("");
  const [method, setMethod] = useState("POST");
  const [at, setAt] = useState("/");
  const [about, setAbout] = useState("");
  const [takes, setTakes] = useState<Value[]>([{ name: "", kind: "text", wanted: true }]);
  const given = takes.filter((each) => each.name.trim());
  const put = useMutation({
    mutationFn: () => call<Described>("PUT", `${path}/operations/${encodeURIComponent(name)}`, { method, path: at, about, takes: given }),
    onSuccess: (told) => {
      kept(told);
      close();
    },
  });
  const set = (place: number, change: Partial<Value>): void => setTakes(takes.map((each, at_) => (at_ === place ? { ...each, ...change } : each)));
  return (
    <form
      className="sheet"
      aria-label="Tell an operation"
      style={{ padding: "12px 14px", marginTop: 8, display: "grid", gap: 8, maxWidth: 640 }}
      onSubmit={(event) => {
        event.preventDefault();
        put.mutate();
      }}
    >
      <div style={{ display: "flex", flexWrap: "wrap", gap: 8 }}>
        <TextInput size="xs" label="Its name" placeholder="makeTask" value={name} onChange={(event) => setName(event.currentTarget.value)} data-autofocus autoFocus />
        <Select size="xs" label="Method" data={METHODS} value={method} onChange={(to) => setMethod(to ?? "POST")} w={110} allowDeselect={false} />
        <TextInput size="xs" label="Path, after the address" placeholder="/tasks/{id}" value={at} onChange={(event) => setAt(event.currentTarget.value)} style={{ flex: 1 }} />
      </div>
      <TextInput size="xs" label="What it does" value={about} onChange={(event) => setAbout(event.currentTarget.value)} />
      <fieldset style={{ border: 0, padding: 0, margin: 0, display: "grid", gap: 6 }}>
        <legend className="small">What it takes</legend>
        {takes.map((each, place) => (
          <div key={place} style={{ display: "flex", flexWrap: "wrap", gap: 8, alignItems: "center" }}>
            <TextInput size="xs" aria-label={`Name of value ${place + 1}`} placeholder="title" value={each.name} onChange={(event) => set(place, { name: event.currentTarget.value })} />
            <Select size="xs" aria-label={`Kind of value ${place + 1}`} data={KINDS} value={each.kind} onChange={(to) => set(place, { kind: to ?? "text" })} w={140} allowDeselect={false} />
            <Checkbox size="xs" label="must be given" checked={each.wanted} onChange={(event) => set(place, { wanted: event.currentTarget.checked })} />
          </div>
        ))}
        <div>
          <Button size="compact-xs" variant="subtle" onClick={() => setTakes([...takes, { name: "", kind: "text", wanted: false }])}>
            One more value
          </Button>
        </div>
      </fieldset>
      {put.error && <Problem error={put.error} />}
      <div style={{ display: "flex", gap: 8 }}>
        <Button size="compact-sm" type="submit" loading={put.isPending} disabled={!name.trim() || !at.startsWith("/")}>
          Keep it
        </Button>
        <Button size="compact-sm" variant="subtle" onClick={close}>
          Leave it
        </Button>
      </div>
    </form>
  );
}
