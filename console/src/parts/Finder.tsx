import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { type KeyboardEvent, useEffect, useRef, useState } from "react";
import { find, type Found } from "./find";

/** A box that finds anything: a name, a MAC address in any notation, an address, a NAS, an entry. */
export function Finder() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const key = (event: globalThis.KeyboardEvent) => {
      const typing = event.target instanceof HTMLElement && event.target.matches("input, textarea, select");
      if (event.key === "/" && !typing && !event.ctrlKey && !event.metaKey) {
        event.preventDefault();
        setOpen(true);
      }
    };
    window.addEventListener("keydown", key);
    return () => window.removeEventListener("keydown", key);
  }, []);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="-mx-2 mb-4 cursor-pointer rounded-sm border border-line px-2 py-1 text-left text-soft">
        Find … <kbd className="float-right">/</kbd>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-ink/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-[12vh] left-1/2 z-40 w-[40rem] -translate-x-1/2 rounded-sm bg-paper p-4"
        >
          <Dialog.Title className="sr-only">Find anything</Dialog.Title>
          {open && <Search close={() => setOpen(false)} />}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Search({ close }: { close: () => void }) {
  const [q, setQ] = useState("");
  const [place, setPlace] = useState(0);
  const navigate = useNavigate();
  const list = useRef<HTMLUListElement>(null);
  const found = useQuery({
    queryKey: ["find", q.trim()],
    enabled: q.trim().length > 1,
    queryFn: () => find(q.trim()),
    placeholderData: (before: Found[] | undefined) => before,
  });
  const all = q.trim().length > 1 ? (found.data ?? []) : [];
  const go = (one: Found | undefined) => {
    if (!one) return;
    close();
    void navigate(one.link);
  };
  const walk = (event: KeyboardEvent) => {
    const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (step !== 0) {
      event.preventDefault();
      const next = Math.max(0, Math.min(all.length - 1, place + step));
      setPlace(next);
      list.current?.children[next]?.scrollIntoView({ block: "nearest" });
    }
    if (event.key === "Enter") go(all[place]);
  };
  return (
    <>
      <input
        type="search"
        autoFocus
        role="combobox"
        aria-label="Find anything"
        aria-expanded={all.length > 0}
        aria-controls="found"
        aria-activedescendant={all[place] ? `found-${place}` : undefined}
        placeholder="A name, digits of a MAC address, an address, a NAS, an entry's id"
        value={q}
        onChange={(event) => {
          setQ(event.target.value);
          setPlace(0);
        }}
        onKeyDown={walk}
        className="w-full rounded-sm border border-soft bg-sheet px-3 py-2 text-lg"
      />
      <ul id="found" ref={list} role="listbox" aria-label="Found" className="mt-2 max-h-[50vh] overflow-auto">
        {all.map((one, index) => (
          <li
            key={`${one.kind} ${one.name}`}
            id={`found-${index}`}
            role="option"
            aria-selected={index === place}
            onMouseMove={() => setPlace(index)}
            onClick={() => go(one)}
            className="grid cursor-pointer grid-cols-[6rem_14rem_1fr] gap-x-4 rounded-sm px-2 py-1 aria-selected:bg-tint"
          >
            <span className="text-soft">{one.kind}</span>
            <span className="truncate font-semibold">{one.name}</span>
            <span className="truncate text-soft">{one.about}</span>
          </li>
        ))}
      </ul>
      <p role="status" className="px-2 text-sm text-soft">
        {q.trim().length > 1 && found.isSuccess && all.length === 0 && "Nothing is called so."}
      </p>
    </>
  );
}
