/** A record being corrected: its values, what the checks say of them, and the way back. */
import { useMutation } from "@tanstack/react-query";
import { useCallback, useEffect, useState } from "react";
import { isLosslessNumber, LosslessNumber } from "lossless-json";
import { call, type CheckView, type Evidence, type Field, type Finding, type RecordDetail } from "../../api/call";
import { at, changed, shape, type Values } from "../../parts/pointers";
import { editable } from "../../parts/words";

export interface Draft {
  values: Values;
  evidence: Record<string, Evidence>;
  findings: Finding[];
  touched: boolean;
  checking: boolean;
  error: Error | null;
  put: (pointer: string, text: string) => void;
  addRow: (list: string) => void;
  dropRow: (list: string, number: number) => void;
  undo: () => void;
  reset: () => void;
  canUndo: boolean;
}

/** What a person typed, as the type of the field wants it; the service reads the rest (dates, "1.234,50"). */
export function typed(field: Field | undefined, text: string): unknown {
  const clean = text.trim();
  if (clean === "") return undefined;
  if (field?.kind === "amount" && /^-?\d+$/.test(clean)) return new LosslessNumber(clean);
  if (field?.kind === "yes/no") return clean === "yes";
  return clean;
}

const same = (first: unknown, second: unknown): boolean => {
  if (isLosslessNumber(first) || isLosslessNumber(second)) return String(first) === String(second);
  return first === second;
};

/** The values as a person gave them: what a list said beside them is looked up anew by the service. */
export function given(values: Values, record: RecordDetail, evidence: Record<string, Evidence>, own = ""): Values {
  const listed = Object.entries(evidence).filter(([pointer, each]) => each.how === "list" && pointer !== own && at(values, pointer) !== undefined);
  return listed.reduce((made, [pointer]) => changed(made, pointer, at(record.as_read, pointer)), values);
}

export function useDraft(record: RecordDetail): Draft {
  const [values, setValues] = useState<Values>(record.values);
  const [evidence, setEvidence] = useState(record.evidence);
  const [findings, setFindings] = useState(record.findings);
  const [before, setBefore] = useState<Values[]>([]);
  const check = useMutation({
    mutationFn: ({ next, own }: { next: Values; own: string }) => call<CheckView>("POST", `/api/records/${record.id}/check`, { values: given(next, record, evidence, own) }),
    onSuccess: (checked) => {
      setValues(checked.values);
      setEvidence(checked.evidence);
      setFindings(checked.findings);
    },
  });
  const reset = useCallback(() => {
    setValues(record.values);
    setEvidence(record.evidence);
    setFindings(record.findings);
    setBefore([]);
  }, [record.values, record.evidence, record.findings]);
  useEffect(reset, [reset, record.id, record.state]);
  const { mutate } = check;
  const move = useCallback(
    (next: Values, own = "") => {
      setBefore((all) => [...all, values]);
      setValues(next);
      mutate({ next, own });
    },
    [values, mutate],
  );
  return {
    values,
    evidence,
    findings,
    touched: before.length > 0,
    checking: check.isPending,
    error: check.error,
    canUndo: before.length > 0,
    put: (pointer, text) => {
      const field = record.fields.find((each) => each.shape === shape(pointer));
      const value = typed(field, text);
      if (same(at(values, pointer), value) || editable(at(values, pointer)) === text) return;
      if (evidence[pointer]?.how === "list") setEvidence(Object.fromEntries(Object.entries(evidence).filter(([other]) => other !== pointer))); // now it is a person's
      move(changed(values, pointer, value), pointer);
    },
    addRow: (list) => move(changed(values, list, [...((at(values, list) as unknown[] | undefined) ?? []), {}])),
    dropRow: (list, number) => move(changed(values, list, ((at(values, list) as unknown[] | undefined) ?? []).filter((_, index) => index !== number))),
    reset,
    undo: () => {
      const last = before.at(-1);
      if (!last) return;
      setBefore(before.slice(0, -1));
      setValues(last);
      mutate({ next: last, own: "" });
    },
  };
}
