/** How sure values were against which share of them is right: on the line, a sureness means what it says. */
import type { ReactNode } from "react";
import type { Reliability } from "../../api/call";
import { percent } from "./figures";

const SIDE = 190;
const EDGE = 34;

export function Sureness({ bins }: { bins: Reliability[] }): ReactNode {
  if (bins.length === 0) return null;
  const most = Math.max(...bins.map((each) => each.values));
  const x = (share: unknown): number => EDGE + Number(share) * SIDE;
  const y = (share: unknown): number => SIDE + 10 - Number(share) * SIDE;
  const said = bins.map((each) => `${each.values} values ${percent(each.sure)} sure, ${percent(each.right)} of them right`).join("; ");
  return (
    <figure className="plot sure">
      <svg viewBox={`0 0 ${SIDE + EDGE + 20} ${SIDE + 46}`} role="img" aria-label={`How sure against how right: ${said}`}>
        <line x1={x(0)} y1={y(0)} x2={x(1)} y2={y(1)} className="limit" />
        <line x1={x(0)} y1={y(0)} x2={x(1)} y2={y(0)} className="base" />
        <line x1={x(0)} y1={y(0)} x2={x(0)} y2={y(1)} className="base" />
        {bins.map((each) => (
          <circle key={String(each.low)} cx={x(each.sure)} cy={y(each.right)} r={3 + 7 * Math.sqrt(each.values / most)} className="bar">
            <title>{`${each.values} values, ${percent(each.sure)} sure on average, ${percent(each.right)} right`}</title>
          </circle>
        ))}
        {[0, 0.5, 1].map((share) => (
          <g key={share}>
            <text x={x(share)} y={y(0) + 14} textAnchor="middle">
              {percent(share)}
            </text>
            {share > 0 && (
              <text x={EDGE - 4} y={y(share) + 4} textAnchor="end">
                {percent(share)}
              </text>
            )}
          </g>
        ))}
        <text x={x(0.5)} y={y(0) + 30} textAnchor="middle">
          how sure
        </text>
        <text x={x(0) + 6} y={y(0.88)}>
          how many right
        </text>
      </svg>
    </figure>
  );
}
