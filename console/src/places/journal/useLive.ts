import { useEffect, useEffectEvent, useState } from "react";
import type { Entry } from "../../api/client";

/** Hands over every new entry; tells whether the line to the service stands. */
export function useLive(onEntry: (entry: Entry) => void, onGap: () => void): boolean {
  const [connected, setConnected] = useState(false);
  const entry = useEffectEvent(onEntry);
  const gap = useEffectEvent(onGap);
  useEffect(() => {
    const events = new EventSource("/api/v1/journal/live");
    let interrupted = false;
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
    return () => events.close();
  }, []);
  return connected;
}
