/** One trial: what it came to by field and document, how sure values were against how right, beside another trial where one is chosen. */
import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient, type UseQueryResult } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { call, type Trial, type TrialDetail, type TriedDocument } from "../../api/call";
import { Problem } from "../../parts/bits";
import { Keys } from "../../parts/keys";
import { Head } from "../../parts/Shell";
import { count, figure, shown } from "../../parts/words";
import { amiss, fieldName, ordered, percent, state } from "./figures";
import { Sureness } from "./Sureness";

const LOOK_AGAIN = 1500;

const useTrial = (id: string): UseQueryResult<TrialDetail> =>
  useQuery<TrialDetail>({
    queryKey: ["trial", id],
    queryFn: () => call<TrialDetail>("GET", `/api/trials/${id}`),
    enabled: id !== "",
    refetchInterval: (query) => (query.state.data?.state === "running" ? LOOK_AGAIN : false),
  });

export function TrialPlace(): ReactNode {
  const { id = "" } = useParams();
  const [asked, setAsked] = useSearchParams();
  const beside = asked.get("beside") ?? "";
  const client = useQueryClient();
  const trial = useTrial(id);
  const other = useTrial(beside);
  const trials = useQuery({ queryKey: ["trials"], queryFn: () => call<{ items: Trial[] }>("GET", "/api/trials") });
  const act = useMutation({
    mutationFn: (what: "stop" | "continue") => call<Trial>("POST", `/api/trials/${id}/${what}`, {}),
    onSuccess: () => client.invalidateQueries({ queryKey: ["trial", id] }),
  });
  if (trial.error) return <Problem error={trial.error} again={() => void trial.refetch()} />;
  if (!trial.data) return null;
  const found = trial.data;
  const two = beside ? other.data : undefined;
  const others = trials.data?.items.filter((each) => each.id !== id && each.record_type === found.record_type) ?? [];
  const told = state(found.state);
  return (
    <>
      <Keys keys={[]} />
      <Head title={`${found.record_type}, read by ${found.model}`}>
        <span className={`stamp ${told.tone}`} data-sign={told.sign}>
          {told.word}
        </span>{" "}
        {found.done} of {count(found.count, "record")}, version {found.type_version} of the record type. <Link to="/setup/trials">All trials</Link>
      </Head>
      {found.problem && <div className="note bad">{found.problem}</div>}
      {act.error && <Problem error={act.error} />}
      <progress className="far" max={Math.max(found.count, 1)} value={found.done} aria-label={`${found.done} of ${found.count} read`} />
      <div className="filters">
        {found.state === "running" && (
          <Button size="compact-md" variant="default" loading={act.isPending} onClick={() => act.mutate("stop")}>
            Stop
          </Button>
        )}
        {(found.state === "stopped" || found.state === "failed") && (
          <Button size="compact-md" loading={act.isPending} onClick={() => act.mutate("continue")}>
            Continue; nothing is paid twice
          </Button>
        )}
        {others.length > 0 && (
          <label>
            Beside it{" "}
            <select className="pick" value={beside} onChange={(event) => setAsked(event.target.value ? { beside: event.target.value } : {}, { replace: true })}>
              <option value="">no other trial</option>
              {others.map((each) => (
                <option key={each.id} value={each.id}>
                  {each.model}, version {each.type_version}, {new Date(each.created_at).toLocaleString()}
                </option>
              ))}
            </select>
          </label>
        )}
      </div>
      <div className="trialtop">
        <Sum trial={found} />
        {two ? <Sum trial={two} name={`${two.model}, version ${two.type_version}`} /> : <Sureness bins={found.reliability} />}
      </div>
      <Fields one={found} two={two} />
      <Documents one={found} two={two} />
    </>
  );
}

/** What a trial came to, in sentences. */
function Sum({ trial, name }: { trial: TrialDetail; name?: string }): ReactNode {
  const values = trial.right + trial.wrong + trial.missing;
  return (
    <div>
      {name && <p style={{ margin: "0 0 4px", fontWeight: 600 }}>{name}</p>}
      <p style={{ margin: "0 0 6px" }}>
        Of {count(values, "value")} that are right to have, <b>{trial.right.toLocaleString()}</b> were read right, {trial.wrong.toLocaleString()} wrong, {trial.missing.toLocaleString()} not at all;{" "}
        {count(trial.invented, "value was", "values were")} given where there is none.
      </p>
      <p style={{ margin: "0 0 6px" }}>
        {count(trial.whole, "record is", "records are")} wholly right. {count(trial.through, "record", "records")} would be written without a person, with {count(trial.through_wrong, "wrong value")} in{" "}
        {trial.through === 1 ? "it" : "them"}.
      </p>
      <p className="soft small" style={{ margin: 0 }}>
        Precision {percent(trial.precision)}, recall {percent(trial.recall)}, F1 {percent(trial.f1)}. {trial.tokens.toLocaleString()} tokens, {Number(trial.seconds).toFixed(1)} seconds
        {Number(trial.cost) > 0 ? `, cost ${figure(trial.cost)}` : ""}.
      </p>
    </div>
  );
}

function Fields({ one: first, two }: { one: TrialDetail; two: TrialDetail | undefined }): ReactNode {
  const names = ordered(first.fields, two?.fields);
  if (names.length === 0) return <p className="soft">No record was read yet.</p>;
  return (
    <>
      <h2>By field</h2>
      <div className="sheet scroll">
        <table className="grid">
          <thead>
            <tr>
              <th>Field</th>
              <th className="right">Right</th>
              <th className="right">Wrong</th>
              <th className="right">Missing</th>
              <th className="right">Given where none is</th>
              <th className="right">Complete</th>
              {two && <th className="right">Beside it: amiss</th>}
              {two && <th className="right">Complete</th>}
            </tr>
          </thead>
          <tbody>
            {names.map((name) => {
              const own = first.fields[name];
              const others = two?.fields[name];
              return (
                <tr key={name}>
                  <td>{fieldName(name)}</td>
                  <td className="right mono">{own?.right ?? 0}</td>
                  <td className="right mono">{own?.wrong ?? 0}</td>
                  <td className="right mono">{own?.missing ?? 0}</td>
                  <td className="right mono">{own?.invented ?? 0}</td>
                  <td className="right mono">{percent(own?.completeness)}</td>
                  {two && <td className="right mono">{`${amiss(others)} ${amiss(others) === amiss(own) ? "" : amiss(others) < amiss(own) ? "better" : "worse"}`}</td>}
                  {two && <td className="right mono">{percent(others?.completeness)}</td>}
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
    </>
  );
}

function Documents({ one: first, two }: { one: TrialDetail; two: TrialDetail | undefined }): ReactNode {
  const [open, setOpen] = useState("");
  const [all, setAll] = useState(false);
  const others = new Map(two?.documents.map((each) => [each.name, each]));
  const same = (each: TriedDocument): boolean => JSON.stringify(each.errors) === JSON.stringify(others.get(each.name)?.errors ?? []);
  const listed = first.documents.filter((each) => all || (two ? !same(each) : each.errors.length > 0 || each.problem !== ""));
  return (
    <>
      <h2>By document</h2>
      <div className="filters">
        <button className="word" aria-pressed={!all} onClick={() => setAll(false)}>
          {two ? "where the two differ" : "with something amiss"}
        </button>
        <button className="word" aria-pressed={all} onClick={() => setAll(true)}>
          all
        </button>
      </div>
      {listed.length === 0 && <p className="soft">{first.documents.length === 0 ? "No record was read yet." : two ? "Both came to the same in every document." : "Nothing is amiss in any document."}</p>}
      {listed.length > 0 && (
        <ul className="list sheet">
          {listed.map((each) => (
            <li key={each.name}>
              <button className="line tried" aria-expanded={open === each.name} onClick={() => setOpen(open === each.name ? "" : each.name)}>
                <span className="clip" title={each.name}>
                  {each.name}
                </span>
                <span className="soft">{each.problem || `${each.right} right, ${each.wrong} wrong, ${each.missing} missing, ${each.invented} given where none is`}</span>
                <span className="soft small wide">{each.through ? "would be written" : "a person would look"}</span>
              </button>
              {open === each.name && <Amiss document={each} other={others.get(each.name)} />}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}

/** The values of a document that are not as they should be, with what another trial read in their place. */
function Amiss({ document, other }: { document: TriedDocument; other: TriedDocument | undefined }): ReactNode {
  const theirs = new Map(other?.errors.map((each) => [each.field, each]));
  const own = new Set(document.errors.map((each) => each.field));
  const more = other?.errors.filter((each) => !own.has(each.field)) ?? [];
  if (document.errors.length + more.length === 0) return <p className="soft io">All values are right.</p>;
  return (
    <div className="io scroll">
      <table className="grid">
        <thead>
          <tr>
            <th>Field</th>
            <th>Right is</th>
            <th>Was read</th>
            {other && <th>Beside it</th>}
          </tr>
        </thead>
        <tbody>
          {document.errors.map((each, number) => (
            <tr key={number}>
              <td>{fieldName(each.field)}</td>
              <td className="mono">{shown(each.right) || "nothing"}</td>
              <td className="mono">{shown(each.given) || "nothing"}</td>
              {other && <td className="mono">{theirs.has(each.field) ? shown(theirs.get(each.field)?.given) || "nothing" : "right"}</td>}
            </tr>
          ))}
          {more.map((each, number) => (
            <tr key={`more ${number}`}>
              <td>{fieldName(each.field)}</td>
              <td className="mono">{shown(each.right) || "nothing"}</td>
              <td className="mono">right</td>
              <td className="mono">{shown(each.given) || "nothing"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
