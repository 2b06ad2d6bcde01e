/** What models cost in the last four weeks: one bar a day, the limit as a line. */
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { call, type SpendData } from "../api/call";
import { Problem } from "./bits";
import { figure } from "./words";

const DAYS = 28;
const WIDE = 560;
const TALL = 110;

export function SpendPlot(): ReactNode {
  const found = useQuery({ queryKey: ["spend"], queryFn: () => call<SpendData>("GET", `/api/spend?days=${DAYS}`) });
  if (found.error) return <Problem error={found.error} />;
  if (!found.data) return null;
  const { days, currency, spend_day } = found.data;
  const now = new Date();
  const dates = [...Array(DAYS).keys()].map((back) => new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth(), now.getUTCDate() - (DAYS - 1 - back))).toISOString().slice(0, 10));
  const sums = dates.map((date) => days.filter((each) => each.day === date).reduce((sum, each) => sum + Number(each.cost), 0));
  const limit = Number(spend_day);
  const most = Math.max(...sums, limit, 1e-9);
  const step = WIDE / DAYS;
  const top = sums.indexOf(Math.max(...sums));
  return (
    <figure className="plot">
      <svg viewBox={`0 -14 ${WIDE} ${TALL + 32}`} role="img" aria-label={`Cost by day over four weeks, at most ${figure(String(sums[top]))} ${currency}`}>
        {sums.map((sum, number) => (
          <rect key={dates[number]} x={number * step + 3} width={step - 6} y={TALL - (sum / most) * TALL} height={Math.max((sum / most) * TALL, sum > 0 ? 1.5 : 0)} className="bar">
            <title>{`${dates[number] ?? ""}: ${figure(String(sum))} ${currency}`}</title>
          </rect>
        ))}
        <line x1={0} x2={WIDE} y1={TALL} y2={TALL} className="base" />
        {limit > 0 && <line x1={0} x2={WIDE} y1={TALL - (limit / most) * TALL} y2={TALL - (limit / most) * TALL} className="limit" />}
        {limit > 0 && (
          <text x={0} y={TALL - (limit / most) * TALL - 4}>
            limit {figure(spend_day)}
          </text>
        )}
        {(sums[top] ?? 0) > 0 && (
          <text x={top * step + step / 2} y={TALL - ((sums[top] ?? 0) / most) * TALL - 4} textAnchor={top > DAYS / 2 ? "end" : "start"}>
            {figure(String(sums[top]))} {currency}
          </text>
        )}
        <text x={0} y={TALL + 14}>
          {dates[0]}
        </text>
        <text x={WIDE} y={TALL + 14} textAnchor="end">
          today
        </text>
      </svg>
    </figure>
  );
}
