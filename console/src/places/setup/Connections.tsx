/** Connections: outside services with a way of signing in; made, tested, removed. A secret goes in and is never shown. */
import { Button, PasswordInput, Select, Textarea, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type Connection } from "../../api/call";
import { useMay } from "../../api/may";
import { Empty, Problem, When } from "../../parts/bits";
import { Called } from "./Called";
import { Service } from "./Service";

type Kind = Connection["way"]["kind"];
interface Draft {
  name: string;
  address: string;
  kind: Kind;
  user: string;
  sent: string;
  token_url: string;
  scope: string;
  consent_url: string;
  probe: string;
  secret: string;
}

const WAYS: { value: Kind; label: string }[] = [
  { value: "none", label: "nothing is sent" },
  { value: "bearer", label: "a token (bearer)" },
  { value: "basic", label: "user and password" },
  { value: "header", label: "a key in a header" },
  { value: "query", label: "a key in the address" },
  { value: "signed", label: "what is handed over is signed" },
  { value: "certificate", label: "a certificate of one's own" },
  { value: "client", label: "OAuth 2, as a client" },
  { value: "consent", label: "OAuth 2, by consent" },
];
const EMPTY: Draft = { name: "", address: "", kind: "bearer", user: "", sent: "", token_url: "", scope: "", consent_url: "", probe: "", secret: "" };

export function Connections(): ReactNode {
  const client = useQueryClient();
  const builder = useMay("builder");
  const found = useQuery({ queryKey: ["connections"], queryFn: () => call<{ items: Connection[] }>("GET", "/api/connections") });
  const [draft, setDraft] = useState<Draft | null>(null);
  const [open, setOpen] = useState("");
  const [served, setServed] = useState("");
  const anew = (): Promise<void> => client.invalidateQueries({ queryKey: ["connections"] });
  const test = useMutation({ mutationFn: (name: string) => call<Connection>("POST", `/api/connections/${name}/test`), onSuccess: anew });
  const consent = useMutation({ mutationFn: (name: string) => call<{ url: string }>("POST", `/api/connections/${name}/consent`), onSuccess: ({ url }) => window.location.assign(url) });
  const remove = useMutation({ mutationFn: (name: string) => call("DELETE", `/api/connections/${name}`), onSuccess: anew });
  return (
    <>
      <h2>Connections</h2>
      {found.error && <Problem error={found.error} again={() => void found.refetch()} />}
      {found.data?.items.length === 0 && !draft && <Empty>There is no connection yet. A service that flows fetch from: its address, how one signs in, and the secret. Flows name it and never see the secret.</Empty>}
      <ul className="list sheet">
        {found.data?.items.map((each) => (
          <li key={each.name} className="line connected">
            <b>{each.name}</b>
            <span style={{ minWidth: 0 }}>
              <span className="clip mono small" style={{ display: "block" }}>
                {each.address}
              </span>
              <span className="small">
                {each.failing_since ? (
                  <span className="stamp stopped" data-sign="×">
                    fails since <When at={each.failing_since} />:{" "}
                  </span>
                ) : (
                  each.tested_at && (
                    <span className="stamp good" data-sign="✓">
                      works:{" "}
                    </span>
                  )
                )}
                <span className="soft" style={{ overflowWrap: "anywhere" }}>
                  {each.told}
                </span>
              </span>
            </span>
            <span className="soft small">
              {(each.flows ?? []).join(", ") || "no flow names it"}{" "}
              <button className="word small" aria-expanded={open === each.name} onClick={() => setOpen(open === each.name ? "" : each.name)}>
                calls
              </button>{" "}
              {each.address.startsWith("http") && (
                <button className="word small" aria-expanded={served === each.name} onClick={() => setServed(served === each.name ? "" : each.name)}>
                  records
                </button>
              )}
            </span>
            {builder && (
              <span style={{ display: "flex", gap: 6 }}>
                <Button size="compact-sm" variant="default" loading={test.isPending && test.variables === each.name} onClick={() => test.mutate(each.name)}>
                  Test
                </Button>
                {each.way.kind === "consent" && (
                  <Button size="compact-sm" onClick={() => consent.mutate(each.name)}>
                    Consent
                  </Button>
                )}
                <Button size="compact-sm" variant="default" onClick={() => setDraft(asDraft(each))}>
                  Change
                </Button>
                <Button size="compact-sm" variant="subtle" onClick={() => remove.mutate(each.name)}>
                  Remove
                </Button>
              </span>
            )}
            {open === each.name && <Called name={each.name} />}
            {served === each.name && <Service name={each.name} />}
          </li>
        ))}
      </ul>
      {(test.error ?? remove.error ?? consent.error) && <Problem error={(test.error ?? remove.error ?? consent.error) as Error} />}
      {builder && !draft && (
        <p>
          <Button variant="default" onClick={() => setDraft(EMPTY)}>
            Make a connection
          </Button>
        </p>
      )}
      {draft && <Form draft={draft} known={found.data?.items.find((each) => each.name === draft.name)} set={setDraft} kept={anew} />}
    </>
  );
}

function asDraft(each: Connection): Draft {
  const { kind, user = "", name = "", token_url = "", scope = "", consent_url = "" } = each.way;
  return { name: each.name, address: each.address, kind, user, sent: name, token_url, scope, consent_url, probe: each.probe, secret: "" };
}

function Form({ draft, known, set, kept }: { draft: Draft; known: Connection | undefined; set: (to: Draft | null) => void; kept: () => Promise<void> }): ReactNode {
  const put = useMutation({
    mutationFn: () =>
      call<Connection>("PUT", `/api/connections/${encodeURIComponent(draft.name)}`, {
        address: draft.address,
        probe: draft.probe,
        secret: draft.secret || null,
        way: { kind: draft.kind, user: draft.user, name: draft.sent, token_url: draft.token_url, scope: draft.scope, consent_url: draft.consent_url },
      }),
    onSuccess: async () => {
      await kept();
      set(null);
    },
  });
  const oauth = draft.kind === "client" || draft.kind === "consent";
  const field = (name: keyof Draft, label: string, placeholder = ""): ReactNode => (
    <TextInput label={label} placeholder={placeholder} value={draft[name]} onChange={(event) => set({ ...draft, [name]: event.currentTarget.value })} />
  );
  return (
    <form
      className="sheet"
      aria-label="Connection"
      style={{ padding: "14px 18px", display: "grid", gap: 10, maxWidth: 620, margin: "12px 0" }}
      onSubmit={(event) => {
        event.preventDefault();
        put.mutate();
      }}
    >
      {!known && field("name", "Name", "plants")}
      {field("address", "Address", "https://plants.example/api")}
      <Select label="How one signs in" data={WAYS} value={draft.kind} allowDeselect={false} onChange={(to) => set({ ...draft, kind: (to ?? "none") as Kind })} />
      {(draft.kind === "basic" || oauth) && field("user", oauth ? "Client" : "User")}
      {draft.kind === "header" && field("sent", "Name of the header", "X-Api-Key")}
      {draft.kind === "query" && field("sent", "Name of the parameter", "key")}
      {draft.kind === "consent" && field("consent_url", "Where a person consents", "https://plants.example/oauth/authorize")}
      {oauth && field("token_url", "Where tokens are given", "https://plants.example/oauth/token")}
      {oauth && field("scope", "What it is to be allowed (scope)")}
      {draft.kind === "certificate" && (
        <Textarea label={known?.secret ? "Certificate and key, PEM (left empty: as before)" : "Certificate and key, one after the other (PEM)"} autosize minRows={4} maxRows={10} value={draft.secret} onChange={(event) => set({ ...draft, secret: event.currentTarget.value })} />
      )}
      {draft.kind !== "none" && draft.kind !== "certificate" && (
        <PasswordInput label={known?.secret ? "Secret (left empty: as before)" : "Secret"} autoComplete="off" value={draft.secret} onChange={(event) => set({ ...draft, secret: event.currentTarget.value })} />
      )}
      {field("probe", "What it is tested by, after its address", "me")}
      {put.error && <Problem error={put.error} />}
      <div style={{ display: "flex", gap: 10, alignItems: "center" }}>
        <Button type="submit" loading={put.isPending} disabled={!draft.name || !draft.address}>
          Keep and test it
        </Button>
        <Button variant="subtle" onClick={() => set(null)}>
          Leave it
        </Button>
        <span className="soft small">The test is a real call that should change nothing.</span>
      </div>
    </form>
  );
}
