/** Lists of known values: which there are, and new ones from a CSV file. */
import { Button, FileButton, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type KnownList, type KnownListText } from "../../api/call";
import { Empty, Problem } from "../../parts/bits";
import { count } from "../../parts/words";

export function Lists(): ReactNode {
  const client = useQueryClient();
  const lists = useQuery({ queryKey: ["lists"], queryFn: () => call<{ items: KnownList[] }>("GET", "/api/lists") });
  const [name, setName] = useState("");
  const [open, setOpen] = useState("");
  const put = useMutation({
    mutationFn: async ({ to, file }: { to: string; file: File }) => call<KnownList>("PUT", `/api/lists/${encodeURIComponent(to)}`, { text: await file.text() }),
    onSuccess: () => {
      setName("");
      return client.invalidateQueries({ queryKey: ["lists"] });
    },
  });
  const take = (to: string) => (file: File | null) => file && put.mutate({ to, file });
  return (
    <>
      <h2>Lists of known values</h2>
      {lists.error && <Problem error={lists.error} again={() => void lists.refetch()} />}
      {lists.data?.items.length === 0 && (
        <Empty>There is no list yet. Known vendors, part numbers, or cards with the account each belongs to: a CSV with the values in its first column. Give it a name, then choose the file.</Empty>
      )}
      <ul className="list sheet">
        {lists.data?.items.map((each) => (
          <li key={each.name}>
            <div className="line typeline">
              <button className="word" style={{ justifySelf: "start" }} aria-expanded={open === each.name} onClick={() => setOpen(open === each.name ? "" : each.name)}>
              <b>{each.name}</b>
            </button>
            <span className="soft">
              {count(each.count, "value")}
              {each.columns.length > 1 ? `, with ${each.columns.slice(1).join(", ")} beside them` : ""}
            </span>
            <FileButton onChange={take(each.name)} accept=".csv,text/csv">
              {(props) => (
                <Button {...props} variant="default" size="compact-sm">
                  Replace
                </Button>
              )}
            </FileButton>
            </div>
            {open === each.name && <Values name={open} />}
          </li>
        ))}
      </ul>
      <div style={{ display: "flex", gap: 8, alignItems: "end", margin: "12px 0" }}>
        <TextInput label="A new list" placeholder="vendors" value={name} onChange={(event) => setName(event.currentTarget.value)} />
        <FileButton onChange={take(name)} accept=".csv,text/csv">
          {(props) => (
            <Button {...props} variant="default" disabled={!name}>
              Choose its file
            </Button>
          )}
        </FileButton>
      </div>
      {put.error && <Problem error={put.error} />}
      {put.data && <p role="status">The list {put.data.name} now holds {count(put.data.count, "value")}. Records that are checked from now on are held against it.</p>}
    </>
  );
}

const SHOWN = 200; // lines of a list that are shown

function Values({ name }: { name: string }): ReactNode {
  const found = useQuery({ queryKey: ["lists", name], queryFn: () => call<KnownListText>("GET", `/api/lists/${encodeURIComponent(name)}`) });
  if (found.error) return <Problem error={found.error} />;
  if (!found.data) return null;
  const lines = found.data.text.trimEnd().split("\n");
  return (
    <div className="prompt" style={{ margin: "2px 14px 10px" }} role="region" aria-label={`The list ${name}`}>
      <pre className="mono">{lines.slice(0, SHOWN).join("\n")}</pre>
      {lines.length > SHOWN && <p className="soft small">{count(lines.length - SHOWN, "more line")}</p>}
    </div>
  );
}
