/** The text of a flow, checked while it is typed by the same checks as when it is kept. */
import { Button, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { call, type FlowCheck, type FlowPage } from "../../api/call";
import { Problem } from "../../parts/bits";
import { count } from "../../parts/words";
import { Names } from "./Names";
import { putText } from "./put";
import { offsetOf } from "./reading";

const PAUSE = 350; // milliseconds without a key, after which the text is checked

export function FlowText({ flow }: { flow: FlowPage }): ReactNode {
  const client = useQueryClient();
  const [text, setText] = useState(flow.text);
  const [settled, setSettled] = useState(flow.text);
  const [why, setWhy] = useState("");
  const field = useRef<HTMLTextAreaElement>(null);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(text), PAUSE);
    return () => window.clearTimeout(timer);
  }, [text]);
  const check = useQuery({ queryKey: ["flow-check", settled], queryFn: () => call<FlowCheck>("POST", "/api/flows-check", undefined, settled), staleTime: Infinity });
  const keep = useMutation({
    mutationFn: () => putText(flow.name, text, why),
    onSuccess: () => client.invalidateQueries({ queryKey: ["flows"] }),
  });
  const problems = check.data?.problems ?? [];
  const remarks = check.data?.remarks ?? [];
  const show = (line: number, column: number): void => {
    const at = offsetOf(text, line, column);
    field.current?.focus();
    field.current?.setSelectionRange(at, at + Math.max(1, (text.slice(at).split("\n")[0] ?? "").length));
    if (field.current) field.current.scrollTop = Math.max(0, (line - 6) * 20);
  };
  const put = (name: string): void => {
    const from = field.current?.selectionStart ?? text.length;
    const to = field.current?.selectionEnd ?? from;
    setText(text.slice(0, from) + name + text.slice(to));
    window.setTimeout(() => {
      field.current?.focus();
      field.current?.setSelectionRange(from, from + name.length);
    });
  };
  return (
    <div className="texts">
      <textarea ref={field} className="mono sheet" aria-label="Text of the flow" spellCheck={false} value={text} onChange={(event) => setText(event.currentTarget.value)} />
      <aside>
        <p style={{ marginTop: 0 }} role="status">
          {check.isFetching || settled !== text ? "It is being looked over …" : check.data ? (problems.length === 0 ? "Nothing is wrong with it." : `${count(problems.length, "problem")}.`) : ""}
        </p>
        {check.error && <Problem error={check.error} />}
        <ul className="list">
          {[...problems, ...remarks].map((each) => (
            <li key={`${each.line}${each.place}${each.message}`} style={{ padding: "6px 0" }}>
              <button className="plain" style={{ textAlign: "left" }} onClick={() => show(each.line, each.column)}>
                <span className="mono small soft">{each.line}:</span> {each.step && <b>{each.step} </b>}
                {remarks.includes(each) && <span className="soft">a remark: </span>}
                {each.message}
              </button>
            </li>
          ))}
        </ul>
        <Names put={put} />
        <TextInput data-why label="Why (kept with the version)" value={why} onChange={(event) => setWhy(event.currentTarget.value)} mb={8} />
        <Button data-keep disabled={text === flow.text || problems.length > 0 || settled !== text} loading={keep.isPending} onClick={() => keep.mutate()}>
          Keep it as version {flow.version + 1}
        </Button>
        {text !== flow.text && (
          <Button ml={8} variant="default" onClick={() => setText(flow.text)}>
            Undo all
          </Button>
        )}
        {keep.error && <Problem error={keep.error} />}
      </aside>
    </div>
  );
}
