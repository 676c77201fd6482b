import { Link } from "@tanstack/react-router";
import type { Entry, Fragment } from "../api/client";

/** What came of these is nothing to look into. */
const CALM = new Set(["granted", "accounting"]);

/** A decision as a sentence, in which everything that is named is a link. */
export function Sentence({ entry }: { entry: Entry }) {
  return (
    <span className="font-serif">
      {entry.sentence.map((part, index) => (
        // A sentence never changes its parts.
        <Part key={index} part={part} entry={entry} />
      ))}
    </span>
  );
}

function Part({ part, entry }: { part: Fragment; entry: Entry }) {
  switch (part.kind) {
    case "subject":
      return (
        <Link to="/journal" search={{ q: part.text }} className="relative z-10 italic">
          {part.text}
        </Link>
      );
    case "nas":
      return (
        <Link to="/journal" search={{ q: part.text }} className="relative z-10 italic">
          {part.text}
        </Link>
      );
    case "verdict":
      return <span className={CALM.has(entry.outcome) ? "" : "text-rust"}>{part.text}</span>;
    case "grant":
      return (
        <Link to="/policy" hash={`grant ${part.text.split(", ")[0]}`} className="relative z-10 font-semibold">
          {part.text}
        </Link>
      );
    case "rule":
      return (
        <Link to="/policy" hash={`rule ${entry.gate} ${part.text}`} className="relative z-10 italic">
          {part.text}
        </Link>
      );
    default:
      return part.text;
  }
}
