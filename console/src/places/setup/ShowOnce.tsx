/** Showing a way in once: pictures of a browser that the service drives; what a person points at and types is done there, and kept as verbs. */
import { Autocomplete, Button, Checkbox, Select, TextInput } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useState, type MouseEvent, type ReactNode } from "react";
import { call, type Connection, type Shown } from "../../api/call";
import { Problem } from "../../parts/bits";

interface Pointed {
  kind: string;
  place?: { label?: string; near?: string; row?: string | number; path?: string };
  options?: string[];
  text?: string;
  secret?: boolean;
}
type Act = Record<string, unknown> & { kind: string };
const SAMPLE = '{"number": "FN-1", "vendor": "Fernhill Nurseries", "date": "2026-03-04",\n "lines": [{"part": "FN-201", "description": "Fern", "quantity": 3, "price": 10.00}]}';

export function ShowOnce({ leave, keep }: { leave: () => void; keep: (text: string) => void }): ReactNode {
  const known = useQuery({ queryKey: ["connections"], queryFn: () => call<{ items: Connection[] }>("GET", "/api/connections") });
  const [connection, setConnection] = useState("");
  const [path, setPath] = useState("");
  const [values, setValues] = useState(SAMPLE);
  const [shown, setShown] = useState<Shown | null>(null);
  const begin = useMutation({ mutationFn: () => call<Shown>("POST", "/api/ways-shown", { connection, path, values: JSON.parse(values) as unknown }), onSuccess: setShown });
  const id = shown?.id;
  useEffect(() => () => void (id && call("DELETE", `/api/ways-shown/${id}`).catch(() => undefined)), [id]);
  if (shown) return <Screen shown={shown} values={values} set={setShown} leave={leave} keep={keep} />;
  return (
    <form
      className="sheet"
      aria-label="Show a way in"
      style={{ padding: "14px 18px", display: "grid", gap: 10, maxWidth: 620, margin: "12px 0" }}
      onSubmit={(event) => {
        event.preventDefault();
        begin.mutate();
      }}
    >
      <Select label="The program" placeholder="A connection that signs in by user and password" data={known.data?.items.filter((each) => each.way.kind === "basic").map((each) => each.name) ?? []} value={connection || null} onChange={(to) => setConnection(to ?? "")} />
      <TextInput label="What is opened first, after its address" value={path} onChange={(event) => setPath(event.currentTarget.value)} placeholder="invoices/new" />
      <div>
        <label className="small" htmlFor="show-values">
          A sample: what you type is matched with these values (JSON)
        </label>
        <textarea id="show-values" className="mono sheet wayin" style={{ minHeight: 90 }} value={values} onChange={(event) => setValues(event.currentTarget.value)} />
      </div>
      {begin.error && <Problem error={begin.error} />}
      <div style={{ display: "flex", gap: 8 }}>
        <Button type="submit" loading={begin.isPending} disabled={!connection}>
          Open it
        </Button>
        <Button variant="subtle" onClick={leave}>
          Leave it
        </Button>
      </div>
    </form>
  );
}

function Screen({ shown, values, set, leave, keep }: { shown: Shown; values: string; set: (to: Shown) => void; leave: () => void; keep: (text: string) => void }): ReactNode {
  const act = useMutation({ mutationFn: (what: Act) => call<Shown>("POST", `/api/ways-shown/${shown.id}/act`, what), onSuccess: set });
  const point = (event: MouseEvent<HTMLImageElement>): void => {
    const image = event.currentTarget;
    const box = image.getBoundingClientRect();
    act.mutate({ kind: "point", x: ((event.clientX - box.left) * image.naturalWidth) / box.width, y: ((event.clientY - box.top) * image.naturalHeight) / box.height });
  };
  const pointed = shown.pointed as Pointed | null;
  return (
    <section aria-label="The program" className="showing">
      <div>
        <p className="soft small" style={{ margin: "0 0 6px" }}>
          Point at a field, a list or a button on the picture. {shown.address}
        </p>
        <img src={shown.picture} alt="The screen of the program" className="sheet" style={{ opacity: act.isPending ? 0.6 : 1 }} onClick={point} />
      </div>
      <aside>
        {shown.said && <div className="note bad">{shown.said}</div>}
        {act.error && <Problem error={act.error} />}
        {shown.signing && (
          <Button fullWidth mb={8} onClick={() => act.mutate({ kind: "sign_in" })} loading={act.isPending}>
            Sign in by the connection
          </Button>
        )}
        {shown.looking && (
          <div className="note">You show how one sees that it is there already: search for it, then point at the text that tells. This is done before it is entered.</div>
        )}
        {pointed ? <Doing looking={shown.looking} key={JSON.stringify(pointed)} pointed={pointed} known={knownOf(values)} act={act.mutate} busy={act.isPending} /> : <p className="soft small">Nothing is pointed at.</p>}
        <div style={{ display: "flex", flexWrap: "wrap", gap: 6, margin: "10px 0" }}>
          {!shown.rows &&
            !shown.looking &&
            shown.lists.map((each) => (
              <Button key={each} size="compact-sm" variant="default" onClick={() => act.mutate({ kind: "rows", text: each })}>
                What follows is for each of {each}
              </Button>
            ))}
          {!shown.rows && !shown.looking && <LookUp again={shown.looks_up} act={act.mutate} />}
          {shown.looking && (
            <Button size="compact-sm" variant="default" onClick={() => act.mutate({ kind: "look_up_end" })}>
              That is how it is looked for
            </Button>
          )}
          {shown.rows && (
            <Button size="compact-sm" variant="default" onClick={() => act.mutate({ kind: "rows_end" })}>
              That was a whole row
            </Button>
          )}
          <Button size="compact-sm" variant="subtle" onClick={() => act.mutate({ kind: "undo" })}>
            Take the last step out
          </Button>
        </div>
        <pre className="mono small sheet" aria-label="The way in so far" style={{ maxHeight: 260, overflow: "auto", padding: 10, margin: 0 }}>
          {shown.text}
        </pre>
        <div style={{ display: "flex", gap: 8, marginTop: 10 }}>
          <Button onClick={() => keep(shown.text)}>Look it over and keep it</Button>
          <Button variant="subtle" onClick={leave}>
            Leave it
          </Button>
        </div>
      </aside>
    </section>
  );
}

/** What may be done with what is pointed at. */
function Doing({ pointed, known, act, busy, looking }: { pointed: Pointed; known: string[]; act: (what: Act) => void; busy: boolean; looking: boolean }): ReactNode {
  const [text, setText] = useState("");
  const [otherwise, setOtherwise] = useState("");
  const [last, setLast] = useState(false);
  const name = pointed.place?.label ?? pointed.place?.path ?? "";
  const done = (what: Act) => (event: { preventDefault: () => void }) => {
    event.preventDefault();
    act(what);
  };
  if (pointed.kind === "text")
    return <OfText text={text || (pointed.text ?? "")} set={setText} act={act} busy={busy} looking={looking} />;
  if (pointed.kind === "button")
    return (
      <form onSubmit={done({ kind: "press", last })}>
        <Checkbox size="xs" label="This enters it for good: it is kept as the last press, and not done now" checked={last} onChange={(event) => setLast(event.currentTarget.checked)} mb={8} />
        <Button size="compact-sm" type="submit" loading={busy}>
          {last ? `Keep “${name}” as the last press` : `Press “${name}”`}
        </Button>
      </form>
    );
  if (pointed.kind === "list")
    return (
      <form onSubmit={done({ kind: "choose", text, otherwise })}>
        <Select size="xs" label={`Choose in “${name}”`} data={[...new Set(pointed.options ?? [])]} value={text || null} onChange={(to) => setText(to ?? "")} searchable mb={6} />
        <Select size="xs" label="Where there is none like that" data={[...new Set(pointed.options ?? [])]} value={otherwise || null} onChange={(to) => setOtherwise(to ?? "")} clearable mb={6} />
        <Button size="compact-sm" type="submit" loading={busy} disabled={!text}>
          Choose that
        </Button>
      </form>
    );
  return (
    <form onSubmit={done({ kind: pointed.kind === "file" ? "attach" : "fill", text })}>
      <Autocomplete size="xs" label={pointed.kind === "file" ? `The value of the sample that is the file for “${name}”` : `Type into “${name}”`} data={known} value={text} onChange={setText} autoFocus mb={6} />
      <Button size="compact-sm" type="submit" loading={busy} disabled={Boolean(pointed.secret)}>
        {pointed.kind === "file" ? "Give it" : "Type it"}
      </Button>
    </form>
  );
}

/** What text on the screen may tell: that the screen is the right one, what it shows beside a label, or whether something is there already. */
function OfText({ text, set, act, busy, looking }: { text: string; set: (to: string) => void; act: (what: Act) => void; busy: boolean; looking: boolean }): ReactNode {
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        act({ kind: looking ? "there" : "expect", text });
      }}
    >
      <TextInput size="xs" label={looking ? "The text that tells" : "The text that is waited for"} value={text} onChange={(event) => set(event.currentTarget.value)} mb={6} />
      <div style={{ display: "flex", flexWrap: "wrap", gap: 6 }}>
        <Button size="compact-sm" type="submit" loading={busy}>
          {looking ? "It stands there when it is there" : "Wait for it"}
        </Button>
        {looking && (
          <Button size="compact-sm" variant="default" loading={busy} onClick={() => act({ kind: "none", text })}>
            It stands there when there is none
          </Button>
        )}
      </div>
    </form>
  );
}

/** Begin to show how is seen whether something is there already: from which page on. */
function LookUp({ again, act }: { again: boolean; act: (what: Act) => void }): ReactNode {
  const [asked, setAsked] = useState(false);
  const [path, setPath] = useState("");
  if (!asked)
    return (
      <Button size="compact-sm" variant="default" onClick={() => setAsked(true)}>
        {again ? "Show anew how it is looked for" : "Show how it is looked for"}
      </Button>
    );
  return (
    <form
      aria-label="How it is looked for"
      style={{ display: "flex", gap: 6, alignItems: "end", width: "100%" }}
      onSubmit={(event) => {
        event.preventDefault();
        act({ kind: "look_up", text: path });
      }}
    >
      <TextInput size="xs" label="From which page on, after the address" placeholder="its first page" value={path} onChange={(event) => setPath(event.currentTarget.value)} style={{ flex: 1 }} autoFocus />
      <Button size="compact-sm" type="submit">
        Open it
      </Button>
    </form>
  );
}

function knownOf(values: string): string[] {
  const found: string[] = [];
  const walk = (value: unknown): void => {
    if (Array.isArray(value)) value.slice(0, 1).forEach(walk);
    else if (typeof value === "object" && value !== null) Object.values(value).forEach(walk);
    else if (value !== null && value !== undefined) found.push(String(value));
  };
  try {
    walk(JSON.parse(values));
  } catch {
    return [];
  }
  return [...new Set(found)];
}
