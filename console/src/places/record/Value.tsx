/** A value in place: shown, or typed over. Enter keeps what was typed, Escape leaves it as it was. */
import { useState, type KeyboardEvent, type ReactNode } from "react";
import type { Field } from "../../api/call";
import { editable } from "../../parts/words";

interface EditorProps {
  field: Field | undefined;
  value: unknown;
  taken: string | null; // words taken from the page meanwhile
  keep: (text: string) => void;
  leave: () => void;
}

export function Editor({ field, value, taken, keep, leave }: EditorProps): ReactNode {
  const [text, setText] = useState(editable(value));
  const [last, setLast] = useState<string | null>(null);
  if (taken !== null && taken !== last) {
    setLast(taken);
    setText(taken);
  }
  const press = (event: KeyboardEvent): void => {
    if (event.key === "Enter" || event.key === "Tab") {
      event.preventDefault();
      keep(text);
    } else if (event.key === "Escape") leave();
    event.stopPropagation();
  };
  const label = field?.title ?? "Value";
  if (field && field.options.length > 0) {
    return (
      <select aria-label={label} autoFocus value={text} onChange={(event) => keep(event.currentTarget.value)} onKeyDown={press} onBlur={leave}>
        {[text, ...field.options.filter((each) => each !== text)].map((each) => (
          <option key={each}>{each}</option>
        ))}
      </select>
    );
  }
  return <input aria-label={label} autoFocus value={text} onFocus={(event) => event.currentTarget.select()} onChange={(event) => setText(event.currentTarget.value)} onKeyDown={press} onBlur={() => keep(text)} />;
}
