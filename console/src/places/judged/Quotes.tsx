/** What a step that judges has said, line by line, with the words for it. */
import type { ReactNode } from "react";
import type { JudgedStep } from "../../api/call";

export function Quotes({ step, active, choose }: { step: JudgedStep; active: string; choose: (pointer: string) => void }): ReactNode {
  return (
    <>
      <Outcome step={step} />
      {step.text && (
        <div className="sheet" style={{ padding: "10px 14px", whiteSpace: "pre-wrap" }}>
          {step.text}
        </div>
      )}
      {step.quotes.length > 0 && (
        <div className="sheet">
          {step.quotes.map((quote, number) => {
            const pointer = `/${step.path}/${number}`;
            return (
              <div key={pointer} className={`field ${pointer === active ? "on" : ""}`} data-pointer={pointer} onClick={() => choose(pointer)}>
                <span className="label">{quote.name.replaceAll("_", " ")}</span>
                <div>
                  <div className="value">{quote.said}</div>
                  {quote.why && <div className="small">{quote.why}</div>}
                  <Words page={quote.evidence?.page} quote={quote.evidence?.quote} />
                </div>
              </div>
            );
          })}
        </div>
      )}
      <Said step={step} />
    </>
  );
}

/** The outcome of a step in a line: what, how sure, who said so. */
export function Outcome({ step, label, total }: { step: JudgedStep; label?: string; total?: number }): ReactNode {
  const by = step.by ? `answered by ${step.by}` : step.stand_in ? "a stand-in, which judges nothing" : step.model;
  return (
    <h2 style={{ marginTop: 10 }}>
      <span className="soft">{step.path.replaceAll("_", " ")}:</span> {label ?? (step.outcome || "nothing")}
      {total !== undefined && <span className="mono"> {total} %</span>}{" "}
      <span className="soft small" style={{ fontWeight: 400 }}>
        {step.by ? "" : `${Math.round(Number(step.sure) * 100)} % sure, `}
        {by}
        {step.comment && `: ${step.comment}`}
      </span>
    </h2>
  );
}

/** What a person must know of how it was judged. */
export function Said({ step }: { step: JudgedStep }): ReactNode {
  return (
    <>
      {step.findings.map((each, number) => (
        <div key={number} className={`finding ${each.level}`} role="note">
          <b>{each.level === "stop" ? "× Look yourself: " : "! Look: "}</b>
          {each.message}
        </div>
      ))}
    </>
  );
}

export function Words({ page, quote }: { page: number | undefined; quote: string | undefined }): ReactNode {
  return page && quote ? (
    <div className="changed">
      page {page}: <mark>{quote}</mark>
    </div>
  ) : null;
}
