import type { ReactNode } from "react";

/** The head of a list: what it is, what is looked for where that can be said, and what can be done. */
export function PlaceHead(props: {
  title: string;
  placeholder: string;
  q: string;
  look?: ((q: string) => void) | undefined;
  children?: ReactNode;
}) {
  const { look } = props;
  return (
    <header className="mb-4 flex flex-wrap items-center gap-x-5 gap-y-2 border-b border-ink pb-3">
      <h1 className="font-serif text-2xl">{props.title}</h1>
      {look && (
        <input
          type="search"
          aria-label={`Find in ${props.title}`}
          placeholder={props.placeholder}
          value={props.q}
          onChange={(event) => look(event.target.value)}
          className="w-80 rounded-sm border border-soft bg-sheet px-3 py-1"
        />
      )}
      {props.children}
    </header>
  );
}
