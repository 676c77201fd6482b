import { Bar, BarChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import type { components } from "../api/schema";
import { clock } from "./time";

type Hour = components["schemas"]["HourView"];

/** Outcomes by shape as well as by tint: filled, hatched, dotted, empty. */
const KINDS = [
  { key: "granted", fill: "var(--deep)" },
  { key: "observed", fill: "url(#crossed)" },
  { key: "refused", fill: "url(#hatched)" },
  { key: "silence", fill: "url(#dotted)" },
  { key: "unfinished", fill: "var(--paper)" },
] as const;

/** Decisions of the last day by the hour, as a drawing with a table behind it. */
export default function Hours({ hours }: { hours: Hour[] }) {
  const rows = hours.map((hour) => ({ ...hour, at: clock(hour.hour).slice(0, 5) }));
  const sums = KINDS.map(({ key }) => ({ key, sum: rows.reduce((sum, row) => sum + row[key], 0) }));
  return (
    <>
      <p className="mb-1 flex flex-wrap gap-x-6">
        <span className="text-soft">Decisions of the last 24 hours:</span>
        {KINDS.map(({ key, fill }, place) => (
          <span key={key}>
            <svg viewBox="0 0 14 14" aria-hidden className="mr-1.5 inline-block size-3.5 align-[-2px]">
              <Patterns />
              <rect x="0.5" y="0.5" width="13" height="13" fill={fill} stroke="var(--ink)" />
            </svg>
            {(sums[place]?.sum ?? 0).toLocaleString("en-GB")} {key}
          </span>
        ))}
      </p>
      <div aria-hidden className="h-44">
        <ResponsiveContainer width="100%" height="100%">
          <BarChart accessibilityLayer={false} data={rows} margin={{ top: 6, right: 0, bottom: 0, left: 0 }} barCategoryGap={3}>
            <Patterns />
            <XAxis dataKey="at" interval={3} tickLine={false} stroke="var(--soft)" fontSize={13} />
            <YAxis width={44} allowDecimals={false} tickLine={false} stroke="var(--soft)" fontSize={13} />
            <Tooltip
              isAnimationActive={false}
              cursor={{ fill: "var(--tint)" }}
              contentStyle={{ background: "var(--sheet)", border: "1px solid var(--line)" }}
              itemStyle={{ color: "var(--ink)" }}
            />
            {KINDS.map(({ key, fill }) => (
              <Bar
                key={key}
                dataKey={key}
                stackId="all"
                fill={fill}
                stroke="var(--ink)"
                strokeWidth={0.5}
                isAnimationActive={false}
              />
            ))}
          </BarChart>
        </ResponsiveContainer>
      </div>
      <details className="mt-1">
        <summary className="cursor-pointer text-sm text-deep">As a table</summary>
        <table className="mt-2 text-right text-sm">
          <thead>
            <tr className="text-soft">
              <th className="pr-6 text-left font-normal">hour</th>
              {KINDS.map(({ key }) => (
                <th key={key} className="pl-6 font-normal">
                  {key}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.hour} className="border-t border-line">
                <td className="text-left">{row.at}</td>
                {KINDS.map(({ key }) => (
                  <td key={key}>{row[key].toLocaleString("en-GB")}</td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </>
  );
}

function Patterns() {
  return (
    <defs>
      <pattern id="hatched" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <rect width="5" height="5" fill="var(--paper)" />
        <rect width="2" height="5" fill="var(--rust)" />
      </pattern>
      <pattern id="crossed" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <rect width="5" height="5" fill="var(--paper)" />
        <rect width="1.5" height="5" fill="var(--deep)" />
        <rect width="5" height="1.5" fill="var(--deep)" />
      </pattern>
      <pattern id="dotted" width="5" height="5" patternUnits="userSpaceOnUse">
        <rect width="5" height="5" fill="var(--paper)" />
        <circle cx="2.5" cy="2.5" r="1.2" fill="var(--soft)" />
      </pattern>
    </defs>
  );
}
