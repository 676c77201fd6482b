import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type ReactNode, useEffect, useRef } from "react";

const HEIGHT = 37;

/** A long list, of which only the lines in sight are drawn. Arrow keys go from line to line. */
export function Rows<T>(props: {
  label: string;
  rows: readonly T[];
  keyOf: (row: T) => string;
  more?: () => void;
  children: (row: T) => ReactNode;
}) {
  const list = useRef<HTMLUListElement>(null);
  const lines = useWindowVirtualizer({
    count: props.rows.length,
    estimateSize: () => HEIGHT,
    overscan: 12,
    scrollMargin: list.current?.offsetTop ?? 0,
  });
  const items = lines.getVirtualItems();
  const last = items.at(-1)?.index ?? 0;
  const { more } = props;
  useEffect(() => {
    if (more && props.rows.length > 0 && last >= props.rows.length - 20) more();
  }, [last, more, props.rows.length]);
  return (
    <ul
      ref={list}
      aria-label={props.label}
      onKeyDown={walk}
      className="relative border-t border-line"
      style={{ height: lines.getTotalSize() }}
    >
      {items.map((item) => {
        const row = props.rows[item.index];
        if (row === undefined) return null;
        return (
          <li
            key={props.keyOf(row)}
            aria-setsize={props.rows.length}
            aria-posinset={item.index + 1}
            className="absolute inset-x-0 border-b border-line hover:bg-tint"
            style={{ height: HEIGHT, transform: `translateY(${item.start - lines.options.scrollMargin}px)` }}
          >
            {props.children(row)}
          </li>
        );
      })}
    </ul>
  );
}

function walk(event: KeyboardEvent<HTMLUListElement>) {
  const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
  if (step === 0 || !(event.target instanceof HTMLElement)) return;
  const links = [...event.currentTarget.querySelectorAll<HTMLElement>("li a")];
  const place = links.indexOf(document.activeElement as HTMLElement);
  const next = links[place + step];
  if (next) {
    event.preventDefault();
    next.focus();
  }
}
