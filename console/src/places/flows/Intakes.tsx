/** Where the items of a flow come from: what is there and what it would cost, a yes where one is wanted, what was let go and why. */
import { Button } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type Address, type Intake, type IntakeList } from "../../api/call";
import { useMay } from "../../api/may";
import { Problem, When } from "../../parts/bits";
import { count } from "../../parts/words";
import { placeOf, standingOf } from "./coming";
import { Gone } from "./Gone";
import { There } from "./There";

export function Intakes({ flow }: { flow: string }): ReactNode {
  const found = useQuery({ queryKey: ["intakes", flow], queryFn: () => call<IntakeList>("GET", `/api/flows/${encodeURIComponent(flow)}/intakes`), refetchInterval: 5000 });
  if (found.error) return <Problem error={found.error} again={() => void found.refetch()} />;
  return (
    <ul className="list sheet" aria-label="What comes in">
      {found.data?.items.map((each) => <One key={each.name} flow={flow} intake={each} />)}
    </ul>
  );
}

type Look = "" | "there" | "gone";

function One({ flow, intake }: { flow: string; intake: Intake }): ReactNode {
  const client = useQueryClient();
  const builder = useMay("builder");
  const [look, setLook] = useState<Look>(intake.waits ? "there" : "");
  const anew = (): Promise<void> => client.invalidateQueries({ queryKey: ["intakes", flow] });
  const path = placeOf(flow, intake.name);
  const yes = useMutation({ mutationFn: () => call("POST", `${path}/yes`), onSuccess: anew });
  const test = useMutation({ mutationFn: () => call<{ told: string }>("POST", `${path}/test`) });
  const address = useMutation({ mutationFn: () => call<Address>("POST", `${path}/address`, { secret: null, fresh: !intake.proved }), onSuccess: anew });
  const stands = standingOf(intake);
  const opens = (which: Look): (() => void) => () => setLook(look === which ? "" : which);
  return (
    <li style={{ padding: "12px 16px" }}>
      <div style={{ display: "flex", flexWrap: "wrap", gap: "4px 14px", alignItems: "baseline" }}>
        <b>{intake.name}</b>
        <span style={{ flex: 1, minWidth: 220 }}>{intake.tells}</span>
        {stands && (
          <span className={`stamp ${stands.tone}`} data-sign={stands.sign}>
            {stands.words}
            {intake.failing_since && (
              <>
                {" "}
                <When at={intake.failing_since} />
              </>
            )}
          </span>
        )}
      </div>
      {intake.told && (
        <p className="small" style={{ margin: "6px 0 0", overflowWrap: "anywhere" }}>
          {intake.told}
        </p>
      )}
      {intake.waits && (
        <p style={{ margin: "8px 0" }}>
          It takes nothing until somebody says yes: it would take {count(intake.waits.count, "thing")} now.
        </p>
      )}
      {intake.address && (
        <p className="mono small" style={{ margin: "6px 0 0", overflowWrap: "anywhere" }}>
          {intake.proved ? intake.address : <a href={intake.address}>{intake.address}</a>}
        </p>
      )}
      {address.data?.secret && (
        <div className="note" role="status">
          <p style={{ margin: 0 }}>The secret is told this once. Give it to whoever sends:</p>
          <p className="mono" style={{ margin: "4px 0 0", overflowWrap: "anywhere" }}>
            {address.data.secret}
          </p>
        </div>
      )}
      <div style={{ display: "flex", flexWrap: "wrap", gap: 8, marginTop: 8, alignItems: "center" }}>
        {intake.looked_at && (
          <Button size="compact-sm" variant="default" aria-expanded={look === "there"} onClick={opens("there")}>
            What is there
          </Button>
        )}
        {builder && intake.waits && (
          <Button size="compact-sm" loading={yes.isPending} onClick={() => yes.mutate()}>
            Let it take them
          </Button>
        )}
        {builder && intake.looked_at && (
          <Button size="compact-sm" variant="default" loading={test.isPending} onClick={() => test.mutate()}>
            Test
          </Button>
        )}
        {builder && intake.sent && (
          <Button size="compact-sm" variant="default" loading={address.isPending} onClick={() => address.mutate()}>
            {!intake.address ? "Make its address" : intake.proved ? "Make a new secret" : "Make a new address"}
          </Button>
        )}
        {(intake.let_go ?? 0) > 0 && (
          <Button size="compact-sm" variant="subtle" aria-expanded={look === "gone"} onClick={opens("gone")}>
            {(intake.let_go ?? 0).toLocaleString()} let go
          </Button>
        )}
        {(intake.taken ?? 0) > 0 && (
          <span className="soft small">
            {(intake.taken ?? 0).toLocaleString()} taken{intake.most ? ` of at most ${intake.most.toLocaleString()}` : ""}
          </span>
        )}
      </div>
      {test.data && <p className="small">{test.data.told}</p>}
      {(test.error ?? yes.error ?? address.error) && <Problem error={(test.error ?? yes.error ?? address.error) as Error} />}
      {look === "there" && <There flow={flow} intake={intake.name} />}
      {look === "gone" && <Gone flow={flow} intake={intake.name} sent={intake.sent} />}
    </li>
  );
}
