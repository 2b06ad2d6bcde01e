/** Desk: the records that wait, in order. */
import { Button } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { call, type Today } from "../api/call";
import { Empty, Problem } from "../parts/bits";
import { Head } from "../parts/Shell";
import { count } from "../parts/words";
import { target, WaitingList } from "./Today";

export function Desk(): ReactNode {
  const today = useQuery({ queryKey: ["today"], queryFn: () => call<Today>("GET", "/api/today") });
  if (today.error) return <Problem error={today.error} again={() => void today.refetch()} />;
  const records = (today.data?.waiting ?? []).filter((each) => each.state === "review");
  const first = records[0];
  return (
    <>
      <Head title="Desk">
        {first ? `${count(records.length, "thing")} ${records.length === 1 ? "waits" : "wait"} for you, oldest first.` : "Nothing waits for you."}
      </Head>
      {first ? (
        <>
          <Button component={Link} to={target(first)} mb={14}>
            Begin with the first
          </Button>
          <WaitingList waiting={records} />
        </>
      ) : (
        today.data && (
          <Empty>
            <p style={{ margin: 0 }}>Records with something to decide, and questions that flows ask, come here by themselves. Those with nothing found wrong are written without you; see them under Records.</p>
          </Empty>
        )
      )}
    </>
  );
}
