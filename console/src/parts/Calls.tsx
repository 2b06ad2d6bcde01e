/** What models were asked in a run: one line a call; opening one shows the prompt and the answer. */
import { useQuery } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type Call, type CallDetail } from "../api/call";
import { Problem } from "./bits";
import { count, figure } from "./words";

const OUTCOMES: Record<string, [string, string]> = {
  good: ["✓ answered", "good"],
  rejected: ["× answer not used", "stopped"],
  failed: ["× no answer", "stopped"],
  kept: ["✓ answered before, free", "good"],
};

export function Calls({ run }: { run: string }): ReactNode {
  const found = useQuery({ queryKey: ["calls", run], queryFn: () => call<{ items: Call[] }>("GET", `/api/runs/${run}/calls`) });
  const [open, setOpen] = useState<string | null>(null);
  if (found.error) return <Problem error={found.error} />;
  if (!found.data || found.data.items.length === 0) return null;
  return (
    <section aria-label="Model calls" style={{ borderTop: "1px solid var(--hair)", padding: "8px 14px 12px" }}>
      <h3 style={{ margin: "2px 0 6px", fontSize: 15 }}>{count(found.data.items.length, "model call")}</h3>
      <ul className="list">
        {found.data.items.map((each) => (
          <li key={each.id}>
            <button className="callline" aria-expanded={each.id === open} onClick={() => setOpen(each.id === open ? null : each.id)}>
              <span className={`stamp small ${OUTCOMES[each.outcome]?.[1] ?? ""}`}>{OUTCOMES[each.outcome]?.[0] ?? each.outcome}</span>
              <span>{each.model}</span>
              <span className="soft small">{each.stage}</span>
              <span className="mono small right">{each.input_tokens.toLocaleString()} read</span>
              <span className="mono small right">{each.output_tokens.toLocaleString()} written</span>
              <span className="mono small right">{figure(each.cost)}</span>
              <span className="clip soft small wide">{each.error ?? `${each.took} ms`}</span>
            </button>
            {each.id === open && <Prompt id={each.id} />}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Prompt({ id }: { id: string }): ReactNode {
  const found = useQuery({ queryKey: ["call", id], queryFn: () => call<CallDetail>("GET", `/api/calls/${id}`) });
  if (found.error) return <Problem error={found.error} />;
  if (!found.data) return null;
  const { messages, pictures, answer } = found.data;
  return (
    <div className="prompt">
      {messages.map((message, number) => (
        <div key={number}>
          <p className="soft small">{message["role"] === "system" ? "Rules" : message["role"] === "user" ? "Asked" : "Answered before"}</p>
          <pre className="mono">{String(message["content"])}</pre>
        </div>
      ))}
      {pictures.map((each) => (
        <div key={each.page}>
          <p className="soft small">Shown as a picture</p>
          <img src={`/api/documents/${each.document}/pages/${each.page}/picture?dots=110`} alt={`Page ${each.page}, as the model was shown it`} style={{ maxWidth: 320, border: "1px solid var(--hair)" }} />
        </div>
      ))}
      <p className="soft small">Answer</p>
      <pre className="mono">{answer ?? (messages.length ? "There was none." : "What was asked and answered is no longer kept.")}</pre>
    </div>
  );
}
