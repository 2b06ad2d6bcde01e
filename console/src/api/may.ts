/** What the person who is signed in may do; the service has the last word. */
import { useQueryClient } from "@tanstack/react-query";
import type { Session } from "./call";

const ROLES = ["upload", "reader", "reviewer", "builder", "admin"];

export function useMay(role: string): boolean {
  const own = useQueryClient().getQueryData<Session>(["session"])?.role ?? "admin";
  return ROLES.indexOf(own) >= ROLES.indexOf(role);
}
