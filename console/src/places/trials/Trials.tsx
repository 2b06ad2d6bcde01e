/** Trials: a record type and a model tried on what people approved; and how complete each field was as it was read, by week. */
import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";
import { call, query, type RecordTypes, type Trial, type WeekFields } from "../../api/call";
import { Empty, Problem, When } from "../../parts/bits";
import { Keys } from "../../parts/keys";
import { Head } from "../../parts/Shell";
import { count } from "../../parts/words";
import { fieldName, percent, state } from "./figures";

const LOOK_AGAIN = 2000; // milliseconds, while one is under way

export function Trials(): ReactNode {
  const trials = useQuery({
    queryKey: ["trials"],
    queryFn: () => call<{ items: Trial[] }>("GET", "/api/trials"),
    refetchInterval: ({ state: { data } }) => (data?.items.some((each) => each.state === "running") ? LOOK_AGAIN : false),
  });
  const types = useQuery({ queryKey: ["record-types"], queryFn: () => call<RecordTypes>("GET", "/api/record-types") });
  const models = useQuery({ queryKey: ["models"], queryFn: () => call<{ items: { name: string; default: boolean }[] }>("GET", "/api/models") });
  if (trials.error) return <Problem error={trials.error} again={() => void trials.refetch()} />;
  const names = types.data?.items.map((each) => each.name) ?? [];
  return (
    <>
      <Keys keys={[]} />
      <Head title="Trials">Records that people approved are read again and set against what was approved: what a change of record type or model brings.</Head>
      {names.length > 0 && models.data && <Begin types={names} models={models.data.items.map((each) => each.name)} />}
      {trials.data?.items.length === 0 && (
        <Empty>
          {names.length === 0
            ? "There is no record type yet. Start one under Setup; once records of it are approved, it can be tried on them."
            : "Nothing was tried yet. Choose a record type and a model above: each approved record is read again and set against what a person approved."}
        </Empty>
      )}
      {trials.data && trials.data.items.length > 0 && (
        <ul className="list sheet" style={{ marginTop: 14 }}>
          {trials.data.items.map((each) => (
            <li key={each.id}>
              <Link className="line trialline" to={`/setup/trials/${each.id}`}>
                <span className={`stamp ${state(each.state).tone}`} data-sign={state(each.state).sign}>
                  {state(each.state).word}
                </span>
                <span className="clip">
                  <b>{each.record_type}</b> <span className="soft">version {each.type_version}, by {each.model}</span>
                </span>
                <span className="soft wide">
                  {each.done} of {count(each.count, "record")}
                </span>
                <span className="right wide">
                  <When at={each.created_at} />
                </span>
              </Link>
            </li>
          ))}
        </ul>
      )}
      {names.length > 0 && <Weeks types={names} />}
    </>
  );
}

function Begin({ types, models }: { types: string[]; models: string[] }): ReactNode {
  const [type, setType] = useState(types[0] ?? "");
  const [model, setModel] = useState("");
  const go = useNavigate();
  const client = useQueryClient();
  const begin = useMutation({
    mutationFn: () => call<Trial>("POST", "/api/trials", { record_type: type, model }),
    onSuccess: async (found) => {
      await client.invalidateQueries({ queryKey: ["trials"] });
      void go(`/setup/trials/${found.id}`);
    },
  });
  return (
    <form
      className="filters"
      onSubmit={(event) => {
        event.preventDefault();
        begin.mutate();
      }}
    >
      <label>
        Try{" "}
        <select className="pick" value={type} onChange={(event) => setType(event.target.value)}>
          {types.map((each) => (
            <option key={each}>{each}</option>
          ))}
        </select>
      </label>
      <label>
        read by{" "}
        <select className="pick" value={model} onChange={(event) => setModel(event.target.value)}>
          <option value="">the model that flows ask</option>
          {models.map((each) => (
            <option key={each}>{each}</option>
          ))}
        </select>
      </label>
      <Button type="submit" size="compact-md" loading={begin.isPending}>
        Begin
      </Button>
      {begin.error && <Problem error={begin.error} />}
    </form>
  );
}

/** Which share of the records had each field as they were read, week after week; the darker, the more. */
function Weeks({ types }: { types: string[] }): ReactNode {
  const [type, setType] = useState(types[0] ?? "");
  const found = useQuery({ queryKey: ["fields", type], queryFn: () => call<WeekFields>("GET", `/api/fields${query({ record_type: type })}`) });
  const items = found.data?.items ?? [];
  const weeks = [...new Set(items.map((each) => each.week))];
  const fields = [...new Set(items.map((each) => each.field))];
  const at = new Map(items.map((each) => [`${each.week} ${each.field}`, each]));
  return (
    <>
      <h2>How complete the fields were as they were read</h2>
      {types.length > 1 && (
        <div className="filters">
          {types.map((each) => (
            <button key={each} className="word" aria-pressed={each === type} onClick={() => setType(each)}>
              {each}
            </button>
          ))}
        </div>
      )}
      {found.error && <Problem error={found.error} />}
      {found.data && items.length === 0 && <p className="soft">No record of this type was read in the last twelve weeks.</p>}
      {items.length > 0 && (
        <div className="sheet scroll">
          <table className="grid weeks">
            <caption className="soft small">Share of the records of a week that had the field, and how sure the values were on average.</caption>
            <thead>
              <tr>
                <th>Field</th>
                {weeks.map((week) => (
                  <th key={week} className="right">
                    {week}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {fields.map((field) => (
                <tr key={field}>
                  <td className="clip">{fieldName(field)}</td>
                  {weeks.map((week) => {
                    const here = at.get(`${week} ${field}`);
                    return (
                      <td key={week} className="right mono" style={{ background: `color-mix(in srgb, var(--accent) ${Math.round(Number(here?.completeness ?? 0) * 26)}%, transparent)` }}>
                        {percent(here?.completeness)}
                        <span className="small soft"> {here?.sure == null ? "" : `${percent(here.sure)} sure`}</span>
                      </td>
                    );
                  })}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}
