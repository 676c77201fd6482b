import { useEffect, useState } from "react";

/** How long nothing is typed before something is asked of the service. */
const REST_MS = 350;

/** What is typed, once nothing is typed any more. */
export function useRested<Value extends string | number>(value: Value): Value {
  const [rested, setRested] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setRested(value), REST_MS);
    return () => clearTimeout(timer);
  }, [value]);
  return rested;
}
