/** One record: the page on one side, its fields on the other, findings where they belong. */
import { Button, Modal, Textarea } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useState, type ReactNode } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { call, ServiceProblem, type Evidence, type Field, type Finding, type RecordDetail } from "../../api/call";
import { useMay } from "../../api/may";
import { OnlyLooking, Problem, Stamp } from "../../parts/bits";
import { Keys } from "../../parts/keys";
import { at } from "../../parts/pointers";
import { count, isFigure, shown } from "../../parts/words";
import { evidenceOf, fetchJudged } from "../judged/JudgedPlace";
import { Quotes } from "../judged/Quotes";
import { Carried } from "./Carried";
import { given as asGiven, useDraft, type Draft } from "./draft";
import { Rows } from "./Rows";
import { Editor } from "./Value";
import { Viewer } from "./Viewer";
import { CorrectActs, Written } from "./Written";

const SURE = 0.85; // from here on a value is not called doubtful

const UNDER_WAY = ["entered", "sending", "returning"]; // what came of it is still on its way
const LOOK_AGAIN = 1500; // milliseconds: often enough to see it arrive

const fetchRecord = (id: string) => ({ queryKey: ["record", id], queryFn: () => call<RecordDetail>("GET", `/api/records/${id}`) });

export function RecordPlace(): ReactNode {
  const { id = "" } = useParams();
  const record = useQuery({
    ...fetchRecord(id),
    refetchInterval: ({ state: { data } }) => (data?.deliveries.some((each) => UNDER_WAY.includes(each.state)) ? LOOK_AGAIN : false),
  });
  if (record.error) return <Problem error={record.error} again={() => void record.refetch()} />;
  return record.data ? <Desk key={id} record={record.data} /> : null;
}

/** Header fields in the order of the page; those without a place come last. */
function inOrder(fields: Field[], evidence: Record<string, Evidence>): Field[] {
  const rank = (field: Field): number => {
    const place = evidence[field.shape];
    return place?.box ? place.page * 1e6 + Math.round(Number(place.box[1]) / 6) * 1e3 + Number(place.box[0]) / 10 : 1e9;
  };
  return [...fields].sort((one, other) => rank(one) - rank(other));
}

function Desk({ record }: { record: RecordDetail }): ReactNode {
  const draft = useDraft(record);
  const [params] = useSearchParams();
  const client = useQueryClient();
  const go = useNavigate();
  const reviewer = useMay("reviewer");
  const [correcting, setCorrecting] = useState(false);
  const waits = record.state === "waits" && reviewer;
  const may = waits || (correcting && reviewer);
  const found = useQuery(fetchJudged(record.run_id)).data?.items;
  const judged = useMemo(() => found ?? [], [found]);
  const quoted = useMemo(() => ({ ...draft.evidence, ...evidenceOf(judged.filter((each) => each.document === record.document)) }), [draft.evidence, judged, record.document]);
  const header = useMemo(() => inOrder(record.fields.filter((each) => !each.shape.includes("/*")), record.evidence), [record]);
  const lists = useMemo(() => listsOf(record.fields), [record.fields]);
  const pointers = useMemo(() => {
    const rows = lists.flatMap(([list, fields]) => ((at(draft.values, list) as unknown[] | undefined) ?? []).flatMap((_, number) => fields.map((field) => `${list}/${number}/${field.name}`)));
    return [...header.map((each) => each.shape), ...rows, ...judged.flatMap((step) => step.quotes.map((_, number) => `/${step.path}/${number}`))];
  }, [header, lists, draft.values, judged]);
  const stops = draft.findings.filter((each) => each.level === "stop");
  const troubled = useMemo(() => new Set(draft.findings.flatMap((each) => each.fields)), [draft.findings]);
  const [active, setActive] = useState(() => params.get("field") ?? draft.findings[0]?.fields[0] ?? header[0]?.shape ?? "");
  const [editing, setEditing] = useState(false);
  const [taken, setTaken] = useState<string | null>(null);
  const [ticked, setTicked] = useState<Set<string>>(new Set());
  const [zoom, setZoom] = useState(1);
  const [page, setPage] = useState(() => draft.evidence[active]?.page || 1);
  const [refusing, setRefusing] = useState(false);
  const choose = (pointer: string): void => {
    setActive(pointer);
    setEditing(false);
    setPage(quoted[pointer]?.page || page);
    window.requestAnimationFrame(() => document.querySelector(`[data-pointer="${pointer}"]`)?.scrollIntoView({ block: "nearest" }));
  };
  const edit = (pointer: string): void => {
    if (!may) return;
    setActive(pointer);
    setTaken(null);
    setEditing(true);
  };
  const step = (by: number): void => {
    const next = pointers[Math.min(Math.max(pointers.indexOf(active) + by, 0), pointers.length - 1)];
    if (next) choose(next);
  };
  const keep = (text: string): void => {
    draft.put(active, text);
    setEditing(false);
  };
  const onward = (): void => void go(record.next_waiting ? `/records/${record.next_waiting}` : "/desk");
  const settle = async (): Promise<void> => {
    await client.invalidateQueries();
    onward();
  };
  const approve = useMutation({ mutationFn: () => call<RecordDetail>("POST", `/api/records/${record.id}/approve`, { values: asGiven(draft.values, record, draft.evidence), comment: "" }), onSuccess: settle });
  const refuse = useMutation({ mutationFn: (comment: string) => call<RecordDetail>("POST", `/api/records/${record.id}/refuse`, { comment }), onSuccess: settle });
  useEffect(() => {
    if (record.next_waiting) void client.prefetchQuery(fetchRecord(record.next_waiting)); // loaded before it is asked for
  }, [client, record.next_waiting]);
  const doubted = useMemo(() => doubtfulFirst(pointers, draft.evidence, troubled), [pointers, draft.evidence, troubled]);
  const pageCount = Math.max(1, ...Object.values(quoted).map((each) => each.page));
  const keys = [
    { key: "j", does: "next field", run: () => step(1) },
    { key: "k", does: "field before", run: () => step(-1) },
    { key: "d", does: "next doubtful field, the least sure first", run: () => doubted.length && choose(doubted[(doubted.indexOf(active) + 1) % doubted.length] ?? active) },
    { key: "Enter", does: "accept the value and go on", run: () => { setTicked(new Set([...ticked, active])); step(1); } },
    { key: "e", does: "edit the value; draw over the page to take words", run: () => edit(active) },
    { key: "]", does: "next page", run: () => setPage(Math.min(page + 1, pageCount)) },
    { key: "[", does: "page before", run: () => setPage(Math.max(page - 1, 1)) },
    { key: "+", does: "larger", run: () => setZoom(Math.min(zoom + 0.25, 3)) },
    { key: "-", does: "smaller", run: () => setZoom(Math.max(zoom - 0.25, 0.5)) },
    ...(may ? [{ key: "u", does: "undo", run: draft.undo }] : []),
    ...(waits
      ? [
          { key: "a", does: "approve", run: () => { if (!approve.isPending && !draft.checking) approve.mutate(); } },
          { key: "r", does: "refuse, with a reason", run: () => setRefusing(true) },
            { key: "t", does: "take what is suggested", run: () => { const text = suggested(draft, active); if (text) draft.put(active, text); } },
        ]
      : []),
    { key: "n", does: "next record that waits", run: onward },
  ];
  const cells = { draft, active, editing, taken, troubled, may, choose, edit, keep, leave: () => setEditing(false) };
  return (
    <div className="desk">
      <Keys keys={keys} />
      <Viewer
        sha256={record.document}
        evidence={quoted}
        active={active}
        troubled={troubled}
        zoom={zoom}
        page={page}
        setPage={setPage}
        choose={choose}
        take={editing ? setTaken : null}
        bar={
          <>
            <span className="clip" title={record.item_name}>
              {record.item_name}
            </span>
            <button className="word" aria-label="Smaller" onClick={() => setZoom(Math.max(zoom - 0.25, 0.5))}>
              −
            </button>
            <button className="word" aria-label="Larger" onClick={() => setZoom(Math.min(zoom + 0.25, 3))}>
              +
            </button>
            {editing && <span className="soft small">Draw over words to take them.</span>}
          </>
        }
      />
      <section aria-label="Record">
        <header style={{ marginBottom: 10 }}>
          <h1 style={{ fontSize: 21 }}>{record.title || record.item_name}</h1>
          <p className="soft small" style={{ margin: 0 }}>
            <Stamp state={record.state} /> · {record.record_type}, read by {record.model} · <Link to={`/arrivals/${record.item_id}`}>its run</Link>
            {record.reviewed_by && ` · ${record.state} by ${record.reviewed_by}`}
            {record.comment && `: ${record.comment}`}
          </p>
        </header>
        <Loose findings={draft.findings} pointers={[...pointers, ...lists.map(([list]) => list)]} />
        {draft.error && <Problem error={draft.error} />}
        <div className="sheet">
          {header.map((field) => (
            <FieldLine key={field.shape} field={field} record={record} ticked={ticked.has(field.shape)} {...cells} />
          ))}
        </div>
        {lists.map(([list, fields]) => (
          <div key={list}>
            {draft.findings.filter((each) => each.fields.some((pointer) => pointer === list || pointer.startsWith(`${list}/`)) && !header.some((field) => each.fields.includes(field.shape))).slice(0, 6).map((each, number) => (
              <FindingLine key={number} finding={each} />
            ))}
            <Rows list={list} fields={fields} {...cells} />
          </div>
        ))}
        {waits ? (
          <Acts
            stops={stops.length}
            busy={approve.isPending || draft.checking}
            error={approve.error ?? refuse.error}
            approve={() => approve.mutate()}
            refuse={() => setRefusing(true)}
            undo={draft.canUndo ? draft.undo : null}
          />
        ) : record.state === "waits" ? (
          <div className="acts">
            <OnlyLooking what="To correct, approve or refuse it" />
          </div>
        ) : correcting ? (
          <CorrectActs
            record={record}
            values={() => asGiven(draft.values, record, draft.evidence)}
            busy={draft.checking}
            touched={draft.touched}
            undo={draft.canUndo ? draft.undo : null}
            leave={() => {
              draft.reset();
              setCorrecting(false);
            }}
          />
        ) : (
          <Written record={record} correct={reviewer ? () => setCorrecting(true) : null} />
        )}
        {judged.map((each) => (
          <section key={each.path} aria-label={`Judged: ${each.path}`}>
            <Quotes step={each} active={active} choose={choose} />
            {each.judgement && <Link to={`/judged/${record.run_id}`}>Set its marks right</Link>}
          </section>
        ))}
        <Carried sha256={record.document} />
        <Refuse opened={refusing} close={() => setRefusing(false)} refuse={(comment) => refuse.mutate(comment)} />
      </section>
    </div>
  );
}

/** Fields with findings and fields that are not sure, the least sure first. */
function doubtfulFirst(pointers: string[], evidence: Record<string, Evidence>, troubled: Set<string>): string[] {
  const sure = (pointer: string): number => Number(evidence[pointer]?.confidence ?? 0);
  return pointers.filter((pointer) => troubled.has(pointer) || (pointer in evidence && sure(pointer) < SURE)).sort((one, other) => sure(one) - sure(other));
}

/** What stands as a suggestion beside an empty field. */
function suggested(draft: Draft, pointer: string): string {
  const value = at(draft.values, pointer);
  return value === undefined || value === null ? (draft.findings.find((each) => each.fields[0] === pointer && each.compared?.suggested)?.compared?.suggested ?? "") : "";
}

function listsOf(fields: Field[]): [string, Field[]][] {
  const found = new Map<string, Field[]>();
  for (const field of fields) {
    const [list, rest] = field.shape.split("/*/");
    if (list && rest && !rest.includes("/")) found.set(list, [...(found.get(list) ?? []), field]);
  }
  return [...found];
}

interface LineProps {
  field: Field;
  record: RecordDetail;
  draft: ReturnType<typeof useDraft>;
  active: string;
  editing: boolean;
  taken: string | null;
  ticked: boolean;
  may: boolean;
  choose: (pointer: string) => void;
  edit: (pointer: string) => void;
  keep: (text: string) => void;
  leave: () => void;
}

function FieldLine({ field, record, draft, active, editing, taken, ticked, may, choose, edit, keep, leave }: LineProps): ReactNode {
  const pointer = field.shape;
  const value = at(draft.values, pointer);
  const asRead = at(record.as_read, pointer);
  const given = draft.evidence[pointer];
  const on = pointer === active;
  const differs = String(value ?? "") !== String(asRead ?? "");
  const offered = may ? suggested(draft, pointer) : "";
  const currency = field.kind === "amount" ? String(at(draft.values, "/currency") ?? "") : "";
  return (
    <div className={`field ${on ? "on" : ""}`} data-pointer={pointer} onClick={() => choose(pointer)} onDoubleClick={() => edit(pointer)}>
      <span className="label">
        {field.title}
      </span>
      <div>
        {on && editing ? (
          <Editor field={field} value={value} taken={taken} keep={keep} leave={leave} />
        ) : (
          <div className={`value mono ${ticked ? "ticked" : ""}`} title={given?.quote ?? ""}>
            {value === undefined || value === null ? <span className="soft">not found</span> : shown(value)}
            {isFigure(value) && currency && <span className="small soft"> {currency}</span>}
          </div>
        )}
        {offered && !(on && editing) && (
          <button className="word" onClick={(event) => { event.stopPropagation(); draft.put(pointer, offered); }}>
            Take “{offered.slice(0, 60)}”
          </button>
        )}
        {!differs && given && Number(given.confidence) < SURE && given.how !== "not found in the document" && (
          <div className="changed" title={inputs(given)}>
            {Math.round(Number(given.confidence) * 100)} % sure
          </div>
        )}
        {differs && given?.how !== "list" && <div className="changed">{asRead === undefined ? "nothing was read here" : `${shown(asRead)} was read`}</div>}
        {!differs && value !== undefined && given?.how === "not found in the document" && <div className="changed">not found in the document</div>}
        {given?.how === "list" && <div className="changed">said by a list: {given.quote}</div>}
        {!differs && (given?.how === "decided" || given?.how === "derived" || given?.how === "not in the document, by default") && (
          <div className="changed">
            {given.how === "decided" ? "decided from" : given.how === "derived" ? "worked out from" : "not in the document, by default:"} {given.quote.slice(0, 90)}
          </div>
        )}
        {!differs && given?.how === "fact" && <div className="changed">said by the file in its data: {given.quote}</div>}
      </div>
      {draft.findings.filter((each) => each.fields[0] === pointer).map((each, number) => (
        <FindingLine key={number} finding={each} />
      ))}
    </div>
  );
}

/** What the confidence of a value is made of, in words. */
function inputs(given: Evidence): string {
  const told: Record<string, string> = { place: "sure of its place", reading: "sure of its reading", agree: "readings and sums that agree", differ: "readings that differ", failed: "sums that do not hold" };
  return Object.entries(given.inputs ?? {})
    .map(([name, value]) => `${told[name] ?? name}: ${String(value)}`)
    .join("; ");
}

function FindingLine({ finding }: { finding: Finding }): ReactNode {
  return (
    <div className={`finding ${finding.level}`} role="note">
      <b>{finding.level === "stop" ? "× Stops it: " : "! Look: "}</b>
      {finding.message}
    </div>
  );
}

/** Findings that belong to no field on the page. */
function Loose({ findings, pointers }: { findings: Finding[]; pointers: string[] }): ReactNode {
  return findings.filter((each) => each.fields.every((pointer) => !pointers.includes(pointer) && !pointers.some((one) => one.startsWith(`${pointer}/`)))).map((each, number) => <FindingLine key={number} finding={each} />);
}

function Acts({ stops, busy, error, approve, refuse, undo }: { stops: number; busy: boolean; error: Error | null; approve: () => void; refuse: () => void; undo: (() => void) | null }): ReactNode {
  return (
    <div className="acts">
      {error && (
        <div className="note bad" role="alert" style={{ flexBasis: "100%" }}>
          {error instanceof ServiceProblem && error.findings.length > 0 ? error.findings.map((each) => each.message).join(" ") : error.message}
        </div>
      )}
      <Button loading={busy} onClick={approve}>
        {stops ? "Approve as it stands" : "Approve"}
      </Button>
      <Button variant="default" onClick={refuse}>
        Refuse…
      </Button>
      <Button variant="subtle" disabled={!undo} onClick={() => undo?.()}>
        Undo
      </Button>
      <span className="soft small">{stops ? `${count(stops, "finding")} left.` : "Nothing found wrong."} Press <kbd>?</kbd> for keys.</span>
    </div>
  );
}

function Refuse({ opened, close, refuse }: { opened: boolean; close: () => void; refuse: (comment: string) => void }): ReactNode {
  const [comment, setComment] = useState("");
  return (
    <Modal opened={opened} onClose={close} title="Refuse this record">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          close();
          refuse(comment);
        }}
      >
        <Textarea data-autofocus label="Why" required autosize minRows={2} value={comment} onChange={(event) => setComment(event.currentTarget.value)} />
        <p className="soft small">Nothing of it is written. The reason stays with the record.</p>
        <Button type="submit" color="red" disabled={!comment.trim()}>
          Refuse
        </Button>
      </form>
    </Modal>
  );
}
