import { Link } from "@tanstack/react-router";
import type { Entry } from "../../api/client";
import { Mark } from "../../parts/Mark";
import { Sentence } from "../../parts/Sentence";
import { clock } from "../../parts/time";

/** An entry as a line, which leads to its page. */
export function Row({ entry }: { entry: Entry }) {
  return (
    <li
      data-outcome={entry.outcome}
      className="relative grid data-[outcome=accounting]:text-soft grid-cols-[4.75rem_1.75rem_1fr] items-baseline border-b border-line py-1.5 hover:bg-tint"
    >
      <Link
        to="/journal/$id"
        params={{ id: entry.id }}
        className="text-soft after:absolute after:inset-0"
        aria-label={`Why, at ${clock(entry.at)}`}
      >
        <time dateTime={entry.at}>{clock(entry.at)}</time>
      </Link>
      <span className="self-center leading-none">
        <Mark of={entry.outcome} />
      </span>
      <Sentence entry={entry} />
    </li>
  );
}
