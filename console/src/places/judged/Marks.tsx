/** The marks of a document, criterion by criterion; a person sets them right by choosing another mark of the scale. */
import { Button, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type JudgedStep, type JudgementDetail } from "../../api/call";
import { useMay } from "../../api/may";
import { OnlyLooking, Problem } from "../../parts/bits";
import { Keys } from "../../parts/keys";
import { count } from "../../parts/words";
import { Outcome, Said, Words } from "./Quotes";

type Given = Record<string, number>;

export function Marks({ run, step, judgement, active, choose }: { run: string; step: JudgedStep; judgement: JudgementDetail; active: string; choose: (pointer: string) => void }): ReactNode {
  const client = useQueryClient();
  const may = useMay("reviewer");
  const [past, setPast] = useState<Given[]>([{}]);
  const [comment, setComment] = useState("");
  const given = past[past.length - 1] ?? {};
  const set = (name: string, mark: number): void => {
    const kept = judgement.marks.find((each) => each.name === name)?.mark;
    const next = Object.fromEntries(Object.entries({ ...given, [name]: mark }).filter(([other, value]) => other !== name || value !== kept));
    setPast([...past, next]);
  };
  const undo = (): void => setPast(past.length > 1 ? past.slice(0, -1) : past);
  const changed = Object.keys(given).length;
  const correct = useMutation({
    mutationFn: () => call<JudgementDetail>("PUT", `/api/judgements/${judgement.id}`, { marks: given, comment }),
    onSuccess: async () => {
      setPast([{}]);
      setComment("");
      await client.invalidateQueries({ queryKey: ["judged", run] });
      await client.invalidateQueries({ queryKey: ["judgements"] });
    },
  });
  const here = judgement.marks.findIndex((_, number) => active === `/${step.path}/${number}`);
  const chosen = judgement.marks[here];
  const keys = may
    ? [
        ...(chosen?.scale ?? []).slice(0, 10).map((each) => ({ key: String(each.mark), does: `give ${chosen?.name ?? ""} the mark ${each.mark}: ${each.earns}`, run: () => set(chosen?.name ?? "", each.mark) })),
        { key: "u", does: "undo", run: undo },
      ]
    : [];
  return (
    <>
      <Keys keys={keys} />
      <Outcome step={step} label={judgement.label} total={judgement.total} />
      <p className="soft small" style={{ margin: "0 0 8px" }}>
        {judgement.corrected_by && `Set right by ${judgement.corrected_by}${judgement.comment ? `: ${judgement.comment}` : "."} `}
        {judgement.left_out.length > 0 && `The model was not shown: ${judgement.left_out.join(", ")}. `}
        {judgement.anchors.length > 0 && `Judged beside ${count(judgement.anchors.length, "earlier one")}. `}
        {!judgement.current && "The criteria have changed since."}
      </p>
      <div className="sheet">
        {judgement.marks.map((each, number) => {
          const pointer = `/${step.path}/${number}`;
          const mark = given[each.name] ?? each.mark;
          const earns = each.scale.find((one) => one.mark === mark)?.earns ?? each.earns;
          return (
            <div key={each.name} className={`field ${pointer === active ? "on" : ""}`} data-pointer={pointer} onClick={() => choose(pointer)}>
              <span className="label">
                {each.name.replaceAll("_", " ")}
                {each.weight > 1 && <span className="small"> ×{each.weight}</span>}
                {each.must && <div className="small">must be met</div>}
              </span>
              <div>
                <div className="scale" role="group" aria-label={`Mark for ${each.name}`}>
                  {(each.scale.length > 0 ? each.scale : [{ mark: each.mark, earns: each.earns }]).map((one) => (
                    <button key={one.mark} className="word" aria-pressed={one.mark === mark} title={one.earns} disabled={!may} onClick={() => set(each.name, one.mark)}>
                      {one.mark}
                    </button>
                  ))}
                  <span>{earns}</span>
                </div>
                {mark === each.mark ? (
                  <>
                    {each.reason && each.reason !== earns && <div className="small">{each.reason}</div>}
                    <Words page={each.evidence?.page} quote={each.evidence?.quote} />
                    {typeof each.second === "number" && each.second !== each.mark && !each.by && <div className="changed">{each.second} by the second reading; the total takes both</div>}
                    {each.was !== null && each.was !== undefined && <div className="changed">{each.was} before {each.by} set it right</div>}
                    {each.missing && <div className="changed">missing: {each.missing}</div>}
                    {each.why_not_higher && <div className="changed">not higher: {each.why_not_higher}</div>}
                  </>
                ) : (
                  <div className="changed">{each.mark} was given</div>
                )}
              </div>
            </div>
          );
        })}
      </div>
      <Said step={step} />
      {judgement.to_ask.map((each) => (
        <p key={each} className="small" style={{ margin: "6px 0 0" }}>
          {each}
        </p>
      ))}
      <div className="acts">
        {may ? (
          <>
            <TextInput size="xs" style={{ flex: 1, minWidth: 160 }} aria-label="Why" placeholder="Why, if you like" value={comment} onChange={(event) => setComment(event.currentTarget.value)} disabled={changed === 0} />
            <Button size="compact-md" disabled={changed === 0} loading={correct.isPending} onClick={() => correct.mutate()}>
              {changed ? `Set ${count(changed, "mark")} right` : "Set marks right"}
            </Button>
            <Button size="compact-md" variant="subtle" disabled={past.length < 2} onClick={undo}>
              Undo
            </Button>
            <span className="soft small">
              Total and label follow; what the flow did stays done. <kbd>?</kbd> has the keys.
            </span>
          </>
        ) : (
          <OnlyLooking what="To set marks right" />
        )}
        {correct.error && <Problem error={correct.error} />}
      </div>
    </>
  );
}
