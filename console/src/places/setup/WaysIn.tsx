/** Ways in: scripts by which records are typed into programs that have only a screen; looked over and kept as text, or shown once. */
import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type TriedWay, type WayIn } from "../../api/call";
import { useMay } from "../../api/may";
import { Empty, Problem } from "../../parts/bits";
import { ShowOnce } from "./ShowOnce";

const NEW = "way: invoices\nconnection: accounts\ntakes: [number]\nenter:\n  - open: \"\"\n";

export function WaysIn(): ReactNode {
  const builder = useMay("builder");
  const found = useQuery({ queryKey: ["ways"], queryFn: () => call<{ items: WayIn[] }>("GET", "/api/ways") });
  const [open, setOpen] = useState<{ name: string; text: string; version: number } | null>(null);
  const [showing, setShowing] = useState(false);
  return (
    <>
      <h2>Ways in</h2>
      {found.error && <Problem error={found.error} again={() => void found.refetch()} />}
      {found.data?.items.length === 0 && !open && !showing && (
        <Empty>There is no way in yet. It says how a record is typed into a program that has only a screen: what is opened, filled, chosen and pressed. Show it once, then flows enter records by it.</Empty>
      )}
      <ul className="list sheet">
        {found.data?.items.map((each) => (
          <li key={each.name} className="line typeline">
            <button className="word" aria-expanded={open?.name === each.name} onClick={() => setOpen(open?.name === each.name ? null : { name: each.name, text: each.text, version: each.version })}>
              {each.name}
            </button>
            <span>
              {each.about || `into ${each.connection}`} <span className="soft small">takes {each.takes.join(", ")}</span>
            </span>
            <span className="soft small">
              version {each.version}
              {!each.looks_up && (
                <span className="stamp person" data-sign="!">
                  {" "}
                  does not look whether it is there
                </span>
              )}
            </span>
          </li>
        ))}
      </ul>
      {builder && !open && !showing && (
        <p style={{ display: "flex", gap: 8 }}>
          <Button variant="default" onClick={() => setShowing(true)}>
            Show one
          </Button>
          <Button variant="subtle" onClick={() => setOpen({ name: "", text: NEW, version: 0 })}>
            Write one
          </Button>
        </p>
      )}
      {showing && (
        <ShowOnce
          leave={() => setShowing(false)}
          keep={(text) => {
            setShowing(false);
            setOpen({ name: "", text, version: 0 });
          }}
        />
      )}
      {open && <Text key={`${open.name} ${open.version}`} way={open} may={builder} leave={() => setOpen(null)} />}
    </>
  );
}

function Text({ way, may, leave }: { way: { name: string; text: string; version: number }; may: boolean; leave: () => void }): ReactNode {
  const client = useQueryClient();
  const [text, setText] = useState(way.text);
  const [values, setValues] = useState("");
  const named = /^way:\s*["']?([a-z][a-z0-9-]*)/m.exec(text)?.[1] ?? "";
  const keep = useMutation({
    mutationFn: () => call<WayIn>("PUT", `/api/ways/${encodeURIComponent(named || "unnamed")}`, undefined, text),
    onSuccess: () => client.invalidateQueries({ queryKey: ["ways"] }),
  });
  const attempt = useMutation({ mutationFn: () => call<TriedWay>("POST", `/api/ways/${encodeURIComponent(named)}/try`, { values: JSON.parse(values || "{}") as unknown }) });
  return (
    <section aria-label="Way in" style={{ margin: "12px 0" }}>
      <textarea className="mono sheet wayin" aria-label="Text of the way in" spellCheck={false} readOnly={!may} value={text} onChange={(event) => setText(event.currentTarget.value)} />
      {may && (
        <div style={{ display: "flex", gap: 8, margin: "8px 0", alignItems: "center", flexWrap: "wrap" }}>
          <Button loading={keep.isPending} disabled={text === way.text && way.version > 0} onClick={() => keep.mutate()}>
            Keep it
          </Button>
          <Button variant="subtle" onClick={leave}>
            Leave it
          </Button>
          {keep.data && <span role="status">It is kept as version {keep.data.version}.</span>}
        </div>
      )}
      {keep.error && <Problem error={keep.error} />}
      {may && (way.version > 0 || keep.data) && (
        <>
          <label className="small" htmlFor="way-values">
            Values to try it with (JSON). It goes up to the last press, which is not done.
          </label>
          <textarea id="way-values" className="mono sheet wayin" style={{ minHeight: 70 }} value={values} placeholder={'{"number": "FN-1", "lines": []}'} onChange={(event) => setValues(event.currentTarget.value)} />
          <p>
            <Button variant="default" loading={attempt.isPending} onClick={() => attempt.mutate()}>
              Try it
            </Button>
          </p>
          {attempt.error && <Problem error={attempt.error} />}
          {attempt.data && <Tried tried={attempt.data} />}
        </>
      )}
    </section>
  );
}

function Tried({ tried }: { tried: TriedWay }): ReactNode {
  return (
    <div role="status">
      <p className={tried.stopped ? "note bad" : "note"}>{tried.stopped || (tried.result === "there already" ? "It is there already: nothing would be entered." : "It went up to the last press, which was not done.")}</p>
      {tried.chosen.map((each) => (
        <p key={each} className="small">
          {each}
        </p>
      ))}
      <div className="seen">
        {tried.pictures.map((each, number) => (
          <figure key={number}>
            <img src={each.picture} alt={each.told} />
            <figcaption className="small soft">{each.told}</figcaption>
          </figure>
        ))}
      </div>
    </div>
  );
}
