/** What a document carries besides its print: facts for programs, hidden text, files within, warnings of its reading. */
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { call, type Doc } from "../../api/call";
import { count } from "../../parts/words";

const SHOWN = 40;

export function Carried({ sha256 }: { sha256: string }): ReactNode {
  const doc = useQuery({ queryKey: ["document", sha256], queryFn: () => call<Doc>("GET", `/api/documents/${sha256}`), staleTime: Infinity }).data;
  if (!doc) return null;
  const said = [
    doc.facts.length > 0 && count(doc.facts.length, "fact"),
    doc.hidden.length > 0 && count(doc.hidden.length, "hidden text"),
    doc.parts.length > 0 && `${count(doc.parts.length, "file")} within`,
    doc.warnings.length > 0 && count(doc.warnings.length, "warning"),
  ].filter(Boolean);
  return (
    <details className="carried">
      <summary>
        About the document <span className="soft small">{[doc.format, ...said].join(" · ")}</span>
      </summary>
      <p className="soft small">Told by its bytes: {doc.why}.</p>
      {doc.warnings.map((each) => (
        <p key={each} className="finding warn">
          {each}
        </p>
      ))}
      {doc.facts.length > 0 && (
        <table>
          <caption>What the file says in its data</caption>
          <tbody>
            {doc.facts.slice(0, SHOWN).map((each) => (
              <tr key={`${each.source}${each.path}`}>
                <th scope="row">{each.name}</th>
                <td className="mono">{each.value}</td>
                <td className="soft small" title={each.path}>
                  {each.source}
                  {each.term && `, ${each.term}`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {doc.facts.length > SHOWN && <p className="soft small">{count(doc.facts.length - SHOWN, "fact")} more are in the API's answer.</p>}
      {doc.hidden.map((each, number) => (
        <p key={number} className="small">
          <b>Not seen by a person</b> (page {each.page}: {each.why}): <span className="mono">{each.text}</span>
        </p>
      ))}
      {doc.parts.map((each) => (
        <p key={each.file} className="small">
          <a href={`/api/files/${each.file}`} download={each.name}>
            {each.name}
          </a>{" "}
          <span className="soft">
            {each.role}, {count(each.size, "byte")}
          </span>
        </p>
      ))}
    </details>
  );
}
