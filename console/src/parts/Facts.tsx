import type { ReactNode } from "react";

/** What is known of something, without what is empty. */
export function Facts({ rows }: { rows: [string, ReactNode][] }) {
  return (
    <dl className="grid grid-cols-[12rem_1fr] gap-x-4 border-t border-line">
      {rows
        .filter(([, value]) => value)
        .map(([label, value]) => (
          <div key={label} className="col-span-2 grid grid-cols-subgrid border-b border-line py-1.5">
            <dt className="text-soft">{label}</dt>
            <dd className="min-w-0 break-words">{value}</dd>
          </div>
        ))}
    </dl>
  );
}
