/** Names that a flow may use of what is behind a connection: folders of a mailbox, tables, records and operations of a service. One that is chosen is put where the cursor stands. */
import { Select } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type Connection, type HeldName } from "../../api/call";
import { Problem } from "../../parts/bits";

/** A name as YAML reads it as text. */
export function asText(name: string): string {
  return /^[A-Za-z][A-Za-z0-9_./-]*$/.test(name) && !/^(true|false|null|yes|no|on|off)$/i.test(name) ? name : JSON.stringify(name);
}

export function Names({ put }: { put: (text: string) => void }): ReactNode {
  const [connection, setConnection] = useState("");
  const known = useQuery({ queryKey: ["connections"], queryFn: () => call<{ items: Connection[] }>("GET", "/api/connections") });
  const held = useQuery({
    queryKey: ["connections", connection, "holds"],
    queryFn: () => call<{ items: HeldName[] }>("GET", `/api/connections/${encodeURIComponent(connection)}/holds`),
    enabled: connection !== "",
    retry: false,
  });
  if (!known.data?.items.length) return null;
  return (
    <section aria-label="Names of a connection" style={{ marginBottom: 14 }}>
      <Select label="What a connection holds" placeholder="Choose a connection" data={known.data.items.map((each) => each.name)} value={connection || null} onChange={(to) => setConnection(to ?? "")} clearable />
      {held.isFetching && <p className="soft small">It is asked …</p>}
      {held.error && <Problem error={held.error} again={() => void held.refetch()} />}
      {held.data?.items.length === 0 && <p className="soft small">It holds nothing that a flow names.</p>}
      {held.data && held.data.items.length > 0 && (
        <>
          <p className="soft small" style={{ margin: "6px 0 2px" }}>
            One that is chosen is put where the cursor stands.
          </p>
          <ul className="list held">
            {held.data.items.map((each) => (
              <li key={`${each.kind} ${each.name}`}>
                <button className="plain" title={each.about} onClick={() => put(asText(each.name))}>
                  <span className="mono">{each.name}</span> <span className="soft small">{[each.kind, each.about].filter(Boolean).join(", ")}</span>
                </button>
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
