import { useEffect, useState } from "react";
import { Field, TextField } from "../../../parts/Field";
import type { Composed } from "./ComposePage";
import { aclText, type Entry } from "./writ";

const BOX = "rounded-sm border border-soft bg-sheet px-2 py-0.5";
const PROTOCOLS = ["ip", "tcp", "udp", "icmp"];

/** An access list from choices; it always ends in an explicit entry. */
export function AclForm({ change }: { change: (composed: Composed) => void }) {
  const [name, setName] = useState("");
  const [entries, setEntries] = useState<(Entry & { id: number })[]>([
    { id: 0, action: "permit", protocol: "tcp", to: "", ports: "" },
  ]);
  const [rest, setRest] = useState<Entry["action"]>("deny");
  const text = aclText(name, [...entries, { action: rest, protocol: "ip", to: "any", ports: "" }]);
  const missing = /^\p{L}[\p{L}\p{N}_-]*$/u.test(name) ? "" : "It needs a name of letters, digits, - and _.";
  useEffect(() => {
    change({ act: { do: "put", text }, text, anchor: `access list ${name}`, missing });
  }, [text, name, missing, change]);
  const put = (id: number, some: Partial<Entry>) =>
    setEntries((list) => list.map((one) => (one.id === id ? { ...one, ...some } : one)));
  return (
    <form className="grid content-start gap-4" onSubmit={(event) => event.preventDefault()}>
      <TextField label="Name" name="name" help="What grants give it by." value={name} change={setName} />
      <Field label="Entries" help="The first that fits decides. Empty: any address, any port.">
        <span className="grid gap-2">
          {entries.map((entry) => (
            <span key={entry.id} className="flex items-center gap-2">
              <Action value={entry.action} change={(action) => put(entry.id, { action })} label="Permit or deny" />
              <select
                aria-label="Protocol"
                className={BOX}
                value={entry.protocol}
                onChange={(event) => put(entry.id, { protocol: event.target.value })}
              >
                {PROTOCOLS.map((word) => (
                  <option key={word}>{word}</option>
                ))}
              </select>
              <span>to</span>
              <input
                aria-label="To"
                placeholder="10.44.0.0/16"
                className={`${BOX} w-40`}
                value={entry.to}
                onChange={(event) => put(entry.id, { to: event.target.value })}
              />
              {(entry.protocol === "tcp" || entry.protocol === "udp") && (
                <input
                  aria-label="Ports"
                  placeholder="port 80, 443"
                  className={`${BOX} w-32`}
                  value={entry.ports}
                  onChange={(event) => put(entry.id, { ports: event.target.value })}
                />
              )}
              <button
                type="button"
                className="cursor-pointer text-rust hover:underline"
                onClick={() => setEntries((list) => list.filter((one) => one.id !== entry.id))}
              >
                Remove
              </button>
            </span>
          ))}
        </span>
        <button
          type="button"
          className="mt-1 cursor-pointer text-deep hover:underline"
          onClick={() =>
            setEntries((list) => [
              ...list,
              { id: Math.max(0, ...list.map((one) => one.id + 1)), action: "permit", protocol: "tcp", to: "", ports: "" },
            ])
          }
        >
          Add an entry
        </button>
      </Field>
      <Field label="All else" help="What no entry fits.">
        <Action value={rest} change={setRest} label="All else" />
      </Field>
    </form>
  );
}

function Action(props: { value: Entry["action"]; change: (value: Entry["action"]) => void; label: string }) {
  return (
    <select
      aria-label={props.label}
      className={BOX}
      value={props.value}
      onChange={(event) => props.change(event.target.value === "permit" ? "permit" : "deny")}
    >
      <option>permit</option>
      <option>deny</option>
    </select>
  );
}
