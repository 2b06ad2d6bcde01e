import { call, query } from "../../api/call";

/** Keep the text of a flow. */
export async function putText(name: string, text: string, why: string): Promise<{ name: string; version: number }> {
  return call("PUT", `/api/flows/${encodeURIComponent(name)}${query({ why })}`, undefined, text);
}
