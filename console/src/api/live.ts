/** The live view: asks what changed and has those things asked for anew. */
import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { call, type Changes } from "./call";

const PAUSE = 1500;

/** Keep what is shown current while the page is looked at. */
export function useLive(): void {
  const client = useQueryClient();
  useEffect(() => {
    let last = -1;
    let stopped = false;
    let timer = 0;
    const ask = async (): Promise<void> => {
      if (document.visibilityState === "visible") {
        try {
          const changes = await call<Changes>("GET", `/api/changes?after=${last}`);
          if (last >= 0 && (changes.changes.length > 0 || changes.gap)) {
            const kept = changes.gap || changes.changes.some((each) => each.kind === "flow");
            const shown = ["today", "items", "item", "run", "runs", "records", "question", ...(kept ? ["flows"] : [])];
            await client.invalidateQueries({ predicate: ({ queryKey }) => shown.includes(String(queryKey[0])) });
          }
          last = changes.last;
        } catch {
          // the next try will tell; queries show their own errors
        }
      }
      if (!stopped) timer = window.setTimeout(() => void ask(), PAUSE);
    };
    void ask();
    return () => {
      stopped = true;
      window.clearTimeout(timer);
    };
  }, [client]);
}
