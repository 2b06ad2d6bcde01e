/** The rail with its places, and the head of a page. */
import { useMantineColorScheme } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { NavLink, Outlet } from "react-router";
import { call, type Session, type Today } from "../api/call";
import { useLive } from "../api/live";
import { Search } from "./Search";

export function Shell({ session }: { session: Session }): ReactNode {
  useLive();
  const client = useQueryClient();
  const today = useQuery({ queryKey: ["today"], queryFn: () => call<Today>("GET", "/api/today") });
  const { colorScheme, setColorScheme } = useMantineColorScheme();
  const dark = colorScheme === "dark" || (colorScheme === "auto" && window.matchMedia("(prefers-color-scheme: dark)").matches);
  const waits = today.data?.waiting.filter((each) => each.state === "review").length ?? 0;
  const leave = async (): Promise<void> => {
    await call("DELETE", "/api/session");
    client.setQueryData(["session"], null);
    client.removeQueries({ predicate: ({ queryKey }) => queryKey[0] !== "session" });
  };
  return (
    <div className="house">
      <nav className="rail" aria-label="Places">
        <div className="brand">Metrikon</div>
        <NavLink to="/today">Today</NavLink>
        <NavLink to="/desk">
          Desk {waits > 0 && <span className="count" title={`${waits} wait for you`}>{waits}</span>}
        </NavLink>
        <NavLink to="/arrivals">Arrivals</NavLink>
        <NavLink to="/records">Records</NavLink>
        <NavLink to="/flows">Flows</NavLink>
        <NavLink to="/setup">Setup</NavLink>
        <div className="foot">
          <span>{session.role === "admin" || !session.role ? session.person : `${session.person}, ${session.role}`}</span>
          <button className="plain" onClick={() => setColorScheme(dark ? "light" : "dark")}>
            {dark ? "Light" : "Dark"}
          </button>
          <button className="plain" onClick={() => void leave()}>
            Sign out
          </button>
        </div>
      </nav>
      <main className="place">
        <Outlet />
      </main>
    </div>
  );
}

/** Title, a sentence under it, and the search field. */
export function Head({ title, children }: { title: ReactNode; children?: ReactNode }): ReactNode {
  return (
    <header className="top">
      <div style={{ minWidth: 0 }}>
        <h1>{title}</h1>
        {children && <div className="soft">{children}</div>}
      </div>
      <Search />
    </header>
  );
}
