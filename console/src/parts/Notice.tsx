import type { ReactNode } from "react";

/** A page, or part of one, that has only something to tell. */
export function Notice({ title, text, children }: { title: string; text: string; children?: ReactNode }) {
  return (
    <section role="status" className="max-w-xl py-10">
      <h1 className="mb-2 font-serif text-2xl">{title}</h1>
      <p className="text-soft">{text}</p>
      {children}
    </section>
  );
}
