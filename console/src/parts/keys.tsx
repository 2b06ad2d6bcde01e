/** Keys of a page: pressed outside of fields, listed with "?". */
import { Modal } from "@mantine/core";
import { useEffect, useState, type ReactNode } from "react";

export interface Key {
  key: string;
  does: string;
  run: () => void;
}

const typing = (target: EventTarget | null): boolean =>
  target instanceof HTMLElement && (target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName));

/** Listen to keys, and show them all when "?" is pressed. */
export function Keys({ keys }: { keys: Key[] }): ReactNode {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const press = (event: KeyboardEvent): void => {
      if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target)) return;
      if (event.key === "?") {
        setOpen((was) => !was);
        return;
      }
      if (document.querySelector('[role="dialog"]')) return;
      if (event.key === "Enter" && event.target instanceof HTMLElement && ["BUTTON", "A"].includes(event.target.tagName)) return;
      const found = keys.find((each) => each.key === event.key);
      if (found) {
        event.preventDefault();
        found.run();
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [keys]);
  return (
    <Modal opened={open} onClose={() => setOpen(false)} title="Keys of this page" size="sm">
      <table className="grid">
        <tbody>
          {[...keys, { key: "/", does: "search", run: () => undefined }, { key: "?", does: "show or hide this list", run: () => undefined }].map((each) => (
            <tr key={each.key}>
              <td>
                <kbd>{each.key}</kbd>
              </td>
              <td>{each.does}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Modal>
  );
}
