/** The service behind a connection: its description, what it can be asked for, and the notes that a person confirms once. */
import { Button, FileButton, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type Described } from "../../api/call";
import { useMay } from "../../api/may";
import { Problem } from "../../parts/bits";
import { count } from "../../parts/words";
import { Tell } from "./Tell";

const CAN: Record<string, string> = {
  enforces: "takes each once",
  finds: "is looked for before it is made again",
  neither: "waits for a person when its writing was cut off",
};

export function Service({ name }: { name: string }): ReactNode {
  const client = useQueryClient();
  const builder = useMay("builder");
  const [at, setAt] = useState("openapi.json");
  const path = `/api/connections/${encodeURIComponent(name)}`;
  const found = useQuery({ queryKey: ["connections", name, "description"], queryFn: () => call<Described>("GET", `${path}/description`), retry: false });
  const [given, setGiven] = useState<Described | null>(null);
  const taken = (told: Described): void => {
    setGiven(told);
    void client.invalidateQueries({ queryKey: ["connections", name] });
  };
  const fetched = useMutation({ mutationFn: () => call<Described>("PUT", `${path}/description?at=${encodeURIComponent(at)}`), onSuccess: taken });
  const file = useMutation({ mutationFn: async (chosen: File) => call<Described>("PUT", `${path}/description`, undefined, await chosen.text()), onSuccess: taken });
  const gone = useMutation({ mutationFn: (operation: string) => call<Described>("DELETE", `${path}/operations/${encodeURIComponent(operation)}`), onSuccess: taken });
  const told = given ?? found.data;
  return (
    <div style={{ gridColumn: "1 / -1", padding: "8px 0 4px" }}>
      {told ? (
        <>
          <p style={{ margin: "0 0 6px" }}>
            <b>{told.title}</b> <span className="soft small">version {told.version}</span>: {count(told.operations.length, "operation")}.
          </p>
          <Notes key={JSON.stringify(told.notes)} name={name} told={told} kept={taken} />
          <details>
            <summary className="small">What it can be asked for</summary>
            <table className="grid" style={{ maxWidth: 860 }}>
              <tbody>
                {told.operations.map((each) => (
                  <tr key={each.name}>
                    <td className="mono small">{each.name}</td>
                    <td className="small">{each.about}</td>
                    <td className="mono small soft">
                      {each.method} {each.path}
                    </td>
                    <td className="small soft">{each.fields.map((one) => `${one.name}${one.wanted ? "" : "?"}`).join(", ")}</td>
                    {builder && (
                      <td>
                        <Button size="compact-xs" variant="subtle" aria-label={`Take ${each.name} out`} onClick={() => gone.mutate(each.name)}>
                          Take it out
                        </Button>
                      </td>
                    )}
                  </tr>
                ))}
              </tbody>
            </table>
          </details>
        </>
      ) : (
        <p className="soft small" style={{ marginTop: 0 }}>
          It is not described. With its OpenAPI description flows can write, find and set its records; where it has none, tell its operations, one at a time.
        </p>
      )}
      {builder && (
        <div style={{ display: "flex", flexWrap: "wrap", gap: 8, alignItems: "end", marginTop: 8 }}>
          <TextInput size="xs" label="Where the service gives its description" value={at} onChange={(event) => setAt(event.currentTarget.value)} />
          <Button size="compact-sm" variant="default" loading={fetched.isPending} onClick={() => fetched.mutate()}>
            Ask it
          </Button>
          <FileButton onChange={(chosen) => chosen && file.mutate(chosen)} accept=".json,.yaml,.yml">
            {(props) => (
              <Button {...props} size="compact-sm" variant="subtle" loading={file.isPending}>
                Give a file…
              </Button>
            )}
          </FileButton>
        </div>
      )}
      {builder && <Tell path={path} kept={taken} />}
      {(fetched.error ?? file.error ?? gone.error) && <Problem error={(fetched.error ?? file.error ?? gone.error) as Error} />}
    </div>
  );
}

function Notes({ name, told, kept }: { name: string; told: Described; kept: (to: Described) => void }): ReactNode {
  const builder = useMay("builder");
  const [text, setText] = useState(JSON.stringify(told.notes, null, 2));
  const put = useMutation({ mutationFn: () => call<Described>("PUT", `/api/connections/${encodeURIComponent(name)}/notes`, { notes: JSON.parse(text) as unknown }), onSuccess: kept });
  const follows = Object.entries(told.follows as Record<string, { can: string; most: number }>);
  return (
    <>
      {told.suggested && <p className="note">These notes are a guess by the names of its operations. Look them over; nothing is written by them before they are confirmed.</p>}
      <ul style={{ margin: "0 0 6px", paddingLeft: 20 }}>
        {follows.map(([records, each]) => (
          <li key={records} className="small">
            <b>{records}</b>: {CAN[each.can] ?? each.can}
            {each.most > 1 ? `; at most ${each.most} in a call` : ""}
          </li>
        ))}
      </ul>
      {builder && (
        <>
          <textarea className="mono sheet wayin" aria-label={`Notes of ${name}`} style={{ minHeight: 180 }} spellCheck={false} value={text} onChange={(event) => setText(event.currentTarget.value)} />
          <p style={{ margin: "6px 0" }}>
            <Button size="compact-sm" loading={put.isPending} onClick={() => put.mutate()}>
              Confirm the notes
            </Button>
          </p>
          {put.error && <Problem error={put.error} />}
          {put.isSuccess && (
            <p role="status" className="small">
              They are kept.
            </p>
          )}
        </>
      )}
    </>
  );
}
