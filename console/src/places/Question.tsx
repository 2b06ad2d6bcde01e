/** A question of a flow: what is asked, the values beside it, and the answers as buttons with keys. */
import { Button, Textarea } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState, type ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { call, type Question, type Today } from "../api/call";
import { useMay } from "../api/may";
import { OnlyLooking, Problem, When } from "../parts/bits";
import { Keys } from "../parts/keys";
import { Head } from "../parts/Shell";
import { count, shown } from "../parts/words";
import { fetchJudged } from "./judged/JudgedPlace";
import { target } from "./Today";

/** Where a value that is shown stands in the document. */
function Stands({ from }: { from: NonNullable<Question["evidence"]>[string] | undefined }): ReactNode {
  if (!from) return null;
  return (
    <Link to={`/records/${from.record}`}>
      page {from.page}: “{from.quote}”
    </Link>
  );
}

export function QuestionPlace(): ReactNode {
  const { id = "" } = useParams();
  const client = useQueryClient();
  const go = useNavigate();
  const found = useQuery({ queryKey: ["question", id], queryFn: () => call<Question>("GET", `/api/questions/${id}`) });
  const [comment, setComment] = useState("");
  const [wanted, setWanted] = useState("");
  const reviewer = useMay("reviewer");
  const answer = useMutation({
    mutationFn: (option: string) => call<Question>("POST", `/api/questions/${id}/answer`, { option, comment }),
    onSuccess: async () => {
      const today = await client.fetchQuery({ queryKey: ["today"], queryFn: () => call<Today>("GET", "/api/today"), staleTime: 0 });
      await client.invalidateQueries({ queryKey: ["question", id] });
      const next = today.waiting.find((each) => each.state === "review" && each.question_id !== id);
      void go(next ? target(next) : "/desk");
    },
    onError: () => client.invalidateQueries({ queryKey: ["question", id] }),
  });
  const question = found.data;
  const judged = useQuery({ ...fetchJudged(question?.run_id ?? ""), enabled: Boolean(question) }).data?.items ?? [];
  const give = (option: { name: string; comment: string }): void => {
    if (option.comment === "wanted" && !comment.trim()) {
      setWanted(option.name);
      document.querySelector<HTMLTextAreaElement>("textarea[data-comment]")?.focus();
      return;
    }
    answer.mutate(option.name);
  };
  const keys = useMemo(
    () => (question?.state === "open" && reviewer ? question.options.map((each, number) => ({ key: String(number + 1), does: each.label, run: () => give(each) })) : []),
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [question, comment, reviewer],
  );
  if (found.error) return <Problem error={found.error} again={() => void found.refetch()} />;
  if (!question) return <Head title="A question" />;
  const label = (name: string | null): string => question.options.find((each) => each.name === name)?.label ?? name ?? "";
  return (
    <>
      <Keys keys={keys} />
      <Head title={question.question}>
        {question.flow} asks about <Link to={`/arrivals/${question.item_id}`}>{question.item_name}</Link>, <When at={question.asked_at} />
        {question.who.length > 0 && `, for ${question.who.join(", ")}`}
        {question.reminded > 0 && `; brought to mind ${count(question.reminded, "time")}`}
      </Head>
      {Object.keys(question.show).length > 0 && (
        <div className="sheet" style={{ marginBottom: 14, maxWidth: 760 }}>
          <table className="grid">
            <tbody>
              {Object.entries(question.show).map(([name, value]) => (
                <tr key={name}>
                  <td className="soft" style={{ width: 200 }}>
                    {name}
                  </td>
                  <td className="mono">{Array.isArray(value) ? value.map((each) => shown(each)).join(", ") : shown(value) || <span className="soft">nothing</span>}</td>
                  <td className="small">
                    <Stands from={question.evidence?.[name]} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {(question.records ?? []).map((each) => (
        <p key={each.id} style={{ margin: "0 0 8px" }}>
          <Link to={`/records/${each.id}`}>See where its values stand: {each.title}</Link>
        </p>
      ))}
      {judged.length > 0 && (
        <p style={{ margin: "0 0 8px" }}>
          <Link to={`/judged/${question.run_id}`}>See the document, with the words that were thought to say so</Link>
        </p>
      )}
      {question.state === "open" && !reviewer ? (
        <OnlyLooking what="To answer" />
      ) : question.state === "open" ? (
        <>
          <Textarea data-comment label="Comment" maw={760} mb={12} autosize minRows={2} value={comment} error={wanted && !comment.trim() ? `“${label(wanted)}” wants a comment; say why.` : undefined} onChange={(event) => setComment(event.currentTarget.value)} />
          <div style={{ display: "flex", gap: 10, flexWrap: "wrap" }}>
            {question.options.map((each, number) => (
              <Button key={each.name} variant="default" loading={answer.isPending && answer.variables === each.name} disabled={answer.isPending} onClick={() => give(each)} rightSection={<kbd>{number + 1}</kbd>}>
                {each.label}
              </Button>
            ))}
          </div>
        </>
      ) : (
        <div className="note">
          {question.state === "answered" ? `${question.answered_by ?? ""} answered “${label(question.answer)}”${question.comment ? `: ${question.comment}` : "."}` : "It is no longer asked: its run went on or ended."}
        </div>
      )}
      {answer.error && <Problem error={answer.error} />}
    </>
  );
}
