/** What came of a record, and the way to correct it after it was written. */
import { Button, Modal, Textarea } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, ServiceProblem, type Corrected, type Delivery, type RecordDetail } from "../../api/call";
import { Problem, When } from "../../parts/bits";
import { WentOut } from "../../parts/WentOut";
import type { Values } from "../../parts/pointers";
import { count } from "../../parts/words";

const CAN_BE_CORRECTED = ["approved", "clear", "read"];

export function Written({ record, correct }: { record: RecordDetail; correct: (() => void) | null }): ReactNode {
  const written = record.deliveries.filter((each) => each.state === "written");
  const others = record.deliveries.filter((each) => (each.state !== "written" && each.state !== "corrected") || each.error);
  const targets = [...new Set(written.map((each) => each.target))];
  return (
    <div style={{ marginTop: 16 }}>
      {written.length > 0 && (
        <p style={{ margin: 0 }}>
          <span className="stamp good" data-sign="✓">
            {count(written.length, "row")} written
          </span>{" "}
          to {targets.join(" and ")}
          {written[0]?.receipt ? `, first at ${written[0].receipt}` : ""}.
        </p>
      )}
      <WentOut all={others} />
      <Before record={record} />
      {correct && CAN_BE_CORRECTED.includes(record.state) && (
        <Button variant="default" size="compact-md" style={{ marginTop: 10 }} onClick={correct}>
          Correct this record
        </Button>
      )}
    </div>
  );
}

/** Who has corrected it after it was written. */
function Before({ record }: { record: RecordDetail }): ReactNode {
  return (record.before ?? []).map((each) => (
    <p key={each.at} className="small" style={{ margin: "4px 0 0" }}>
      Corrected by {each.by} <When at={each.at} />
      {each.comment && `: ${each.comment}`}
    </p>
  ));
}

const WILL: Record<string, string> = { set: "is set where it differs", ask: "a person is asked, since it cannot be set from here" };

interface CorrectProps {
  record: RecordDetail;
  values: () => Values;
  busy: boolean;
  touched: boolean;
  undo: (() => void) | null;
  leave: () => void;
}

/** Beneath a record that is being corrected: what would change is told, then it is done. */
export function CorrectActs({ record, values, busy, touched, undo, leave }: CorrectProps): ReactNode {
  const client = useQueryClient();
  const [told, setTold] = useState<Corrected | null>(null);
  const ask = (yes: boolean, comment = ""): Promise<Corrected> => call<Corrected>("POST", `/api/records/${record.id}/correct`, { values: values(), comment, yes });
  const look = useMutation({ mutationFn: () => ask(false), onSuccess: setTold });
  const correct = useMutation({
    mutationFn: (comment: string) => ask(true, comment),
    onSuccess: async () => {
      setTold(null);
      leave();
      await client.invalidateQueries();
    },
  });
  return (
    <div className="acts">
      {look.error && <Wrong error={look.error} />}
      <Button loading={busy || look.isPending} disabled={!touched} onClick={() => look.mutate()}>
        Correct…
      </Button>
      <Button variant="subtle" disabled={!undo} onClick={() => undo?.()}>
        Undo
      </Button>
      <Button variant="subtle" onClick={leave}>
        Leave it as it is
      </Button>
      <span className="soft small">{touched ? "You see what it changes before it is done." : "Edit a value with e, or by a double click."}</span>
      <Modal opened={told !== null} onClose={() => setTold(null)} title="Correct this record" size="lg">
        {told && <Foreseen came={told.came} busy={correct.isPending} error={correct.error} correct={(comment) => correct.mutate(comment)} />}
      </Modal>
    </div>
  );
}

function Foreseen({ came, busy, error, correct }: { came: Corrected["came"]; busy: boolean; error: Error | null; correct: (comment: string) => void }): ReactNode {
  const [comment, setComment] = useState("");
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        correct(comment);
      }}
    >
      {came.length === 0 ? (
        <p>Nothing came of this record yet. Only the record changes.</p>
      ) : (
        <>
          <p style={{ marginTop: 0 }}>The record changes, and what came of it:</p>
          <ul>
            {came.map((each) => (
              <li key={each.delivery.key}>
                {place(each.delivery)}: {WILL[each.will] ?? each.will}.
              </li>
            ))}
          </ul>
        </>
      )}
      <Textarea data-autofocus label="Why" autosize minRows={2} value={comment} onChange={(event) => setComment(event.currentTarget.value)} />
      {error && <Wrong error={error} />}
      <Button type="submit" loading={busy} style={{ marginTop: 10 }}>
        Correct it, and what came of it
      </Button>
    </form>
  );
}

function Wrong({ error }: { error: Error }): ReactNode {
  if (!(error instanceof ServiceProblem) || error.findings.length === 0) return <Problem error={error} />;
  return (
    <div className="note bad" role="alert" style={{ flexBasis: "100%" }}>
      {error.findings.map((each) => each.message).join(" ")}
    </div>
  );
}

/** Where a thing went, with the run that sent it. */
function place(found: Delivery): ReactNode {
  return (
    <>
      {found.receipt ?? found.target} <span className="soft small">({found.path})</span>
    </>
  );
}
