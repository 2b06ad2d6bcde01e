/** The search field: jumps to an item or record by file, vendor or number. */
import { TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState, type KeyboardEvent, type ReactNode } from "react";
import { useNavigate } from "react-router";
import { call, query, type Item, type ItemPage } from "../api/call";
import { Stamp } from "./bits";

export function Search(): ReactNode {
  const [text, setText] = useState("");
  const [chosen, setChosen] = useState(0);
  const field = useRef<HTMLInputElement>(null);
  const go = useNavigate();
  const wanted = text.trim();
  const found = useQuery({
    queryKey: ["items", "search", wanted],
    queryFn: () => call<ItemPage>("GET", `/api/items${query({ q: wanted, limit: 8 })}`),
    enabled: wanted.length > 1,
  });
  useEffect(() => {
    const press = (event: globalThis.KeyboardEvent): void => {
      const inField = event.target instanceof HTMLElement && ["INPUT", "TEXTAREA", "SELECT"].includes(event.target.tagName);
      if (event.key === "/" && !inField) {
        event.preventDefault();
        field.current?.focus();
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
  const items = wanted.length > 1 ? (found.data?.items ?? []) : [];
  const open = (item: Item | undefined): void => {
    if (!item) return;
    setText("");
    field.current?.blur();
    void go(item.record_id ? `/records/${item.record_id}` : `/arrivals/${item.id}`);
  };
  const press = (event: KeyboardEvent): void => {
    if (event.key === "ArrowDown") setChosen((n) => Math.min(n + 1, items.length - 1));
    else if (event.key === "ArrowUp") setChosen((n) => Math.max(n - 1, 0));
    else if (event.key === "Enter") open(items[chosen]);
    else if (event.key === "Escape") {
      setText("");
      field.current?.blur();
    } else return;
    event.preventDefault();
  };
  return (
    <div className="search">
      <TextInput
        ref={field}
        aria-label="Search"
        placeholder="Search file, vendor, number"
        rightSection={<kbd>/</kbd>}
        value={text}
        onChange={(event) => {
          setText(event.currentTarget.value);
          setChosen(0);
        }}
        onKeyDown={press}
      />
      {wanted.length > 1 && found.data && (
        <div className="found" role="listbox" aria-label="Found">
          {items.map((item, number) => (
            <button key={item.id} role="option" aria-selected={number === chosen} className={number === chosen ? "on" : ""} onClick={() => open(item)}>
              <div className="clip">{item.title ?? item.name}</div>
              <div className="small soft clip">
                {item.name} <Stamp state={item.state} />
              </div>
            </button>
          ))}
          {items.length === 0 && <div style={{ padding: "8px 12px" }}>Nothing holds “{wanted}”.</div>}
        </div>
      )}
    </div>
  );
}
