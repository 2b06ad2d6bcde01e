/** Record types: which there are, what uses them, and each as a table of fields that can be edited. */
import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { call, type ItemList, type Meaning, type RecordType, type Started, type Touched } from "../../api/call";
import { Empty, Problem } from "../../parts/bits";
import { Keys } from "../../parts/keys";
import { Head } from "../../parts/Shell";
import { count } from "../../parts/words";
import { besides } from "./besides";
import { ComesIn } from "./ComesIn";
import { Connections } from "./Connections";
import { Lists } from "./Lists";
import { WaysIn } from "./WaysIn";
import { fieldsOf, MANNERS, TYPES, withRows, type FieldRow } from "./fields";

type Schema = Record<string, unknown>;

export function RecordTypes(): ReactNode {
  const types = useQuery({ queryKey: ["record-types"], queryFn: () => call<{ items: RecordType[] }>("GET", "/api/record-types") });
  const models = useQuery({ queryKey: ["models"], queryFn: () => call<{ items: { name: string; default: boolean; price_in: string; price_out: string; resting: boolean; pictures: number; fallback: string[] }[] }>("GET", "/api/models") });
  if (types.error) return <Problem error={types.error} again={() => void types.refetch()} />;
  return (
    <>
      <Keys keys={[]} />
      <Head title="Setup">What is read from documents, by which models, and which services flows call.</Head>
      <h2>Record types</h2>
      {types.data?.items.length === 0 && <Empty>There is no record type yet. Start one from a file that came in: it tells which fields it holds. Correct them, then keep it.</Empty>}
      <ul className="list sheet">
        {types.data?.items.map((each) => (
          <li key={each.name}>
            <Link className="line typeline" to={`/setup/record-types/${each.name}`}>
              <b>{each.name}</b>
              <span className="soft">{count(fieldsOf(JSON.parse(each.text) as Schema).length, "field")}</span>
              <span className="soft small">version {each.version}</span>
            </Link>
          </li>
        ))}
      </ul>
      <p>
        <Button component={Link} to="/setup/record-types/new" variant="default">
          Start a record type
        </Button>{" "}
        <Button component={Link} to="/setup/trials" variant="default">
          Trials
        </Button>
      </p>
      <Lists />
      <Connections />
      <WaysIn />
      <ComesIn />
      <h2>Models</h2>
      <ul className="list sheet">
        {models.data?.items.map((each) => (
          <li key={each.name} className="line typeline">
            <b>{each.name}</b>
            <span className="soft">
              {each.default ? "asked when a flow names none" : ""}
              {each.resting ? "! left alone for a while, because it failed several times" : ""}
              {each.pictures > 0 ? " sees scans and photos as pictures, too" : ""}
              {each.fallback.length > 0 ? ` then ${each.fallback.join(", ")}` : ""}
            </span>
            <span className="soft small">{Number(each.price_in) + Number(each.price_out) > 0 ? `${each.price_in} and ${each.price_out} for a million tokens read and written` : "costs nothing"}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

export function RecordTypePlace(): ReactNode {
  const { name = "new" } = useParams();
  const types = useQuery({ queryKey: ["record-types"], queryFn: () => call<{ items: RecordType[] }>("GET", "/api/record-types") });
  const [started, setStarted] = useState<Schema | null>(null);
  if (types.error) return <Problem error={types.error} again={() => void types.refetch()} />;
  if (!types.data) return null;
  if (name === "new") return started ? <Editor key="started" name="" schema={started} /> : <Start start={setStarted} />;
  const found = types.data.items.find((each) => each.name === name);
  return found ? <Editor key={name} name={name} schema={JSON.parse(found.text) as Schema} /> : <p>There is no record type {name}.</p>;
}

/** Choose what to start from: a file that came in, or nothing. */
function Start({ start }: { start: (schema: Schema) => void }): ReactNode {
  const items = useQuery({ queryKey: ["samples"], queryFn: () => call<ItemList>("GET", "/api/items?limit=30") });
  const make = useMutation({ mutationFn: (document: string) => call<Started>("POST", "/api/record-types-to-start", { document }), onSuccess: (found) => start(JSON.parse(found.text) as Schema) });
  return (
    <>
      <Keys keys={[]} />
      <Head title="Start a record type">Which fields does a sample hold? Choose a file that came in.</Head>
      {make.error && <Problem error={make.error} />}
      <ul className="list sheet">
        {items.data?.items.map((each) => (
          <li key={each.id}>
            <button className="line typeline" onClick={() => make.mutate(each.sha256)}>
              <b className="clip">{each.name}</b>
              <span className="soft small">{each.flow}</span>
              <span />
            </button>
          </li>
        ))}
      </ul>
      <p>
        <Button variant="default" onClick={() => start({ type: "object", properties: { number: { type: "string" } } })}>
          Begin with an empty table
        </Button>
      </p>
    </>
  );
}

function Editor({ name, schema: given }: { name: string; schema: Schema }): ReactNode {
  const [schema, setSchema] = useState(given);
  const [rows, setRows] = useState<FieldRow[]>(() => fieldsOf(schema));
  const [past, setPast] = useState<{ schema: Schema; rows: FieldRow[] }[]>([]);
  const [called, setCalled] = useState(name);
  const client = useQueryClient();
  const go = useNavigate();
  const text = JSON.stringify(withRows(schema, rows), null, 1);
  const touched = useQuery({ queryKey: ["touched", called, text], queryFn: () => call<Touched>("POST", `/api/record-types/${called}/touched`, withRows(schema, rows)), enabled: called === name && name !== "" });
  const meaning = useQuery({ queryKey: ["meaning", text], queryFn: () => call<Meaning>("POST", "/api/record-types-meaning", withRows(schema, rows)), placeholderData: (before) => before, retry: false });
  const found = (row: FieldRow): Meaning["fields"][number] | undefined => meaning.data?.fields.find((each) => [`/${row.name}`, `/${row.name}/*`, `/${row.list}/*/${row.name}`, `/${row.list}/*/${row.name}/*`].includes(each.field));
  const keep = useMutation({
    mutationFn: () => call("PUT", `/api/record-types/${called}`, withRows(schema, rows)),
    onSuccess: async () => {
      await client.invalidateQueries();
      void go("/setup");
    },
  });
  const change = (next: FieldRow[], whole: Schema = schema): void => {
    setPast([...past, { schema, rows }]);
    setSchema(whole);
    setRows(next);
  };
  const put = (at: number, values: Partial<FieldRow>): void => change(rows.map((row, number) => (number === at ? { ...row, ...values } : row)));
  const undo = (): void => {
    const before = past.at(-1);
    if (before) {
      setSchema(before.schema);
      setRows(before.rows);
      setPast(past.slice(0, -1));
    }
  };
  const groups = ["", ...new Set(rows.map((row) => row.list).filter(Boolean))];
  return (
    <>
      <Keys keys={[{ key: "u", does: "undo", run: undo }]} />
      <Head title={name || "A new record type"}>One line a field: what it is called in documents and what it means is told to the model.</Head>
      {!name && (
        <p>
          <label>
            Name <input className="cell mono" style={{ width: 240 }} value={called} onChange={(event) => setCalled(event.currentTarget.value)} aria-label="Name of the record type" />
          </label>
        </p>
      )}
      {groups.map((list) => (
        <section key={list} style={{ marginBottom: 18 }}>
          {list && <h2>Each row of {list}</h2>}
          <div className="sheet scroll">
            <table className="grid fields">
              <thead>
                <tr>
                  {["Name", "Type", "Meaning", "Manner", "Called in documents", "Examples or options", "Required", ""].map((head) => (
                    <th key={head}>{head}</th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {rows.map((row, at) =>
                  row.list !== list ? null : (
                    <tr key={at}>
                      <td>
                        <input className="cell mono" aria-label="Name" value={row.name} onChange={(event) => put(at, { name: event.currentTarget.value.replace(/[^A-Za-z0-9_]/g, "_") })} />
                      </td>
                      <td>
                        <select className="cell" aria-label={`Type of ${row.name}`} value={row.type} disabled={row.type === "other"} onChange={(event) => put(at, { type: event.currentTarget.value })}>
                          {TYPES.filter((type) => type !== "other" || row.type === "other").map((type) => (
                            <option key={type}>{type}</option>
                          ))}
                        </select>
                      </td>
                      {(["meaning", "manner", "labels", "examples"] as const).map((key) => (
                        <td key={key}>
                          {key === "manner" ? (
                            <select className="cell" aria-label={`Manner of ${row.name}`} title={told(found(row))} value={row.manner} onChange={(event) => put(at, { manner: event.currentTarget.value })}>
                              <option value="">{found(row)?.manner ?? "found"}</option>
                              {MANNERS.map((manner) => (
                                <option key={manner} value={manner}>{`set: ${manner}`}</option>
                              ))}
                            </select>
                          ) : (
                            <input className="cell" aria-label={`${key} of ${row.name}`} title={row[key]} value={row[key]} onChange={(event) => put(at, { [key]: event.currentTarget.value })} />
                          )}
                        </td>
                      ))}
                      <td style={{ textAlign: "center" }}>
                        <input type="checkbox" aria-label={`${row.name} is required`} checked={row.required} onChange={(event) => put(at, { required: event.currentTarget.checked })} />
                      </td>
                      <td>
                        <button className="word" aria-label={`Remove ${row.name}`} onClick={() => change(rows.filter((_, number) => number !== at))}>
                          ×
                        </button>
                      </td>
                    </tr>
                  ),
                )}
              </tbody>
            </table>
          </div>
          <button className="word" style={{ marginTop: 6 }} onClick={() => change([...rows, { list, name: `field_${rows.length + 1}`, type: "text", meaning: "", labels: "", examples: "", required: false, manner: "" }])}>
            add a field
          </button>
        </section>
      ))}
      <Besides schema={withRows(schema, rows)} take={(whole) => change(fieldsOf(whole), whole)} />
      {touched.data?.flows.map((each) => (
        <p key={each.flow} className={each.problems.length ? "finding stop" : "soft"}>
          {each.problems.length ? `× The flow ${each.flow} would not work: ${each.problems.join(" ")}` : `The flow ${each.flow} uses it and works with it as it stands here.`}
        </p>
      ))}
      {(keep.error ?? touched.error) && <Problem error={(keep.error ?? touched.error) as Error} />}
      <div className="acts">
        <Button disabled={!/^[a-z][a-z0-9-]{0,59}$/.test(called) || rows.length === 0} loading={keep.isPending} onClick={() => keep.mutate()}>
          Keep as a new version
        </Button>
        <Button variant="subtle" disabled={past.length === 0} onClick={undo}>
          Undo
        </Button>
      </div>
    </>
  );
}

/** What a field is taken for, in words. */
function told(found: Meaning["fields"][number] | undefined): string {
  if (!found) return "";
  const how: Record<string, string> = { copied: "It stands in the document.", mapped: "It stands there in another form.", decided: "It is decided from what is said.", derived: "It is worked out." };
  return `${how[found.manner] ?? ""}${found.meaning ? ` It is taken for: ${found.meaning}.` : ""}${found.twice ? " A second reading asks for it, where one is set." : ""}`;
}

/** What holds besides the table, in sentences; all of it can be edited as text. */
function Besides({ schema, take }: { schema: Schema; take: (schema: Schema) => void }): ReactNode {
  const [text, setText] = useState<string | null>(null);
  const [wrong, setWrong] = useState("");
  const told = besides(schema);
  const use = (): void => {
    try {
      take(JSON.parse(text ?? "") as Schema);
      setText(null);
      setWrong("");
    } catch (error) {
      setWrong(`That is no JSON yet: ${(error as Error).message}`);
    }
  };
  return (
    <section style={{ marginBottom: 18 }}>
      <h2>Besides</h2>
      {told.length === 0 && <p className="soft">Nothing is checked besides types and what is required.</p>}
      <ul className="besides">
        {told.map((each) => (
          <li key={each}>{each}</li>
        ))}
      </ul>
      {text === null ? (
        <button className="word" onClick={() => setText(JSON.stringify(schema, null, 1))}>
          edit as text
        </button>
      ) : (
        <>
          <textarea className="astext" aria-label="The record type as text" value={text} onChange={(event) => setText(event.currentTarget.value)} spellCheck={false} />
          {wrong && <p className="finding stop">× {wrong}</p>}
          <div style={{ display: "flex", gap: 8, marginTop: 8 }}>
            <Button variant="default" onClick={use}>
              Use this text
            </Button>
            <Button variant="subtle" onClick={() => setText(null)}>
              Leave it as it was
            </Button>
          </div>
        </>
      )}
    </section>
  );
}
