/** Lists of known values: which there are, and new ones from a CSV file. */
import { Button, FileButton, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type KnownList } from "../../api/call";
import { Empty, Problem } from "../../parts/bits";
import { count } from "../../parts/words";

export function Lists(): ReactNode {
  const client = useQueryClient();
  const lists = useQuery({ queryKey: ["lists"], queryFn: () => call<{ items: KnownList[] }>("GET", "/api/lists") });
  const [name, setName] = useState("");
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
          <li key={each.name} className="line typeline">
            <b>{each.name}</b>
            <span className="soft">
              {count(each.count, "value")}
              {each.columns.length > 1 ? `, with ${each.columns.slice(1).join(", ")} beside them` : ""}
            </span>
            <FileButton onChange={take(each.name)} accept=".csv,.txt,text/csv,text/plain">
              {(props) => (
                <Button {...props} variant="default" size="compact-sm">
                  Replace
                </Button>
              )}
            </FileButton>
          </li>
        ))}
      </ul>
      <div style={{ display: "flex", gap: 8, alignItems: "end", margin: "12px 0" }}>
        <TextInput label="A new list" placeholder="vendors" value={name} onChange={(event) => setName(event.currentTarget.value)} />
        <FileButton onChange={take(name)} accept=".csv,.txt,text/csv,text/plain" disabled={!name}>
          {(props) => (
            <Button {...props} variant="default">
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
