import { Link } from "@tanstack/react-router";
import type { Entry } from "../api/client";
import { Row } from "../places/journal/Row";

/** The newest entry of the journal about something, and the way to all of them. */
export function LastDecision({ title, heard, q }: { title: string; heard: Entry | null | undefined; q: string }) {
  return (
    <section className="mt-6">
      <h2 className="border-b border-ink pb-1 font-serif text-xl">{title}</h2>
      {heard ? (
        <ol aria-label={title}>
          <Row entry={heard} />
        </ol>
      ) : (
        <p className="py-2 text-soft">None is in the journal.</p>
      )}
      <Link to="/journal" search={{ q }} className="mt-2 inline-block text-deep hover:underline">
        All of its entries
      </Link>
    </section>
  );
}
