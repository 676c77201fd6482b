import { useEffect, useEffectEvent, useRef, useState } from "react";
import type { Entry } from "../../api/client";
import type { Filter } from "./entries";

/** A filter is typed letter by letter: a new line is opened when it rests. */
const REST_MS = 300;

/** Hands over every new entry that a filter lets through; tells whether the line to the service stands. */
export function useLive(filter: Filter, onEntry: (entry: Entry) => void, onGap: () => void): boolean {
  const query = new URLSearchParams(Object.entries(filter)).toString();
  const opened = useRef(false);
  const [connected, setConnected] = useState(false);
  const entry = useEffectEvent(onEntry);
  const gap = useEffectEvent(onGap);
  useEffect(() => {
    let events: EventSource | undefined;
    // What came before the line for another filter stood is read from the list.
    let interrupted = opened.current;
    opened.current = true;
    const open = () => {
      events = new EventSource(`/api/v1/journal/live?${query}`);
      events.addEventListener("entry", (event: MessageEvent<string>) => entry(JSON.parse(event.data)));
      events.addEventListener("gap", () => gap());
      events.onopen = () => {
        // What came while the line was down is read from the list.
        if (interrupted) gap();
        setConnected(true);
      };
      events.onerror = () => {
        interrupted = true;
        setConnected(false);
      };
    };
    const resting = setTimeout(open, interrupted ? REST_MS : 0);
    return () => {
      clearTimeout(resting);
      events?.close();
    };
  }, [query]);
  return connected;
}
