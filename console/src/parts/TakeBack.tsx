/** Taking back what a run has sent out: told first, then done. */
import { Button, Modal } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { call, type Delivery, type TakenBack } from "../api/call";
import { Problem } from "./bits";

export function TakeBack({ run }: { run: string }): ReactNode {
  const client = useQueryClient();
  const [told, setTold] = useState<TakenBack | null>(null);
  const ask = (yes: boolean): Promise<TakenBack> => call<TakenBack>("POST", `/api/runs/${run}/take-back`, { yes });
  const look = useMutation({ mutationFn: () => ask(false), onSuccess: setTold });
  const back = useMutation({
    mutationFn: () => ask(true),
    onSuccess: async () => {
      setTold(null);
      await client.invalidateQueries();
    },
  });
  const some = told?.items.some((each) => !each.stays) ?? false;
  return (
    <>
      <Button size="compact-md" variant="subtle" loading={look.isPending} onClick={() => look.mutate()}>
        Take back…
      </Button>
      {look.error && <Problem error={look.error} />}
      <Modal opened={told !== null} onClose={() => setTold(null)} title="Take back what this run has sent out" size="lg">
        {told?.items.length === 0 && <p>Nothing that it has sent out is still there.</p>}
        <ul>
          {told?.items.map((each) => (
            <li key={each.delivery.key}>
              {each.delivery.receipt ?? each.delivery.target} <span className="soft small">({each.delivery.path})</span>: {each.stays || howBack(each.delivery)}
            </li>
          ))}
        </ul>
        {back.error && <Problem error={back.error} />}
        {some && (
          <Button color="red" loading={back.isPending} onClick={() => back.mutate()}>
            Take it back
          </Button>
        )}
      </Modal>
    </>
  );
}

/** What is done when something is taken back. */
function howBack(found: Delivery): string {
  const done = found.mark ? `stays, with ${found.mark}` : "is taken back";
  return `${done}, unless somebody has changed it since.`;
}
