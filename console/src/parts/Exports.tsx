import { useState } from "react";
import { csv, save } from "./exports";

/** Buttons that hand out everything that a filter lets through. */
export function Exports(props: { name: string; fields: readonly string[]; all: () => Promise<object[]> }) {
  const [told, setTold] = useState("");
  const hand = async (kind: "csv" | "json") => {
    setTold("Reading …");
    try {
      const records = await props.all();
      const text = kind === "csv" ? csv(records, props.fields) : `${JSON.stringify(records, null, 2)}\n`;
      save(`${props.name}.${kind}`, kind === "csv" ? "text/csv" : "application/json", text);
      setTold("");
    } catch (error) {
      setTold(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <span className="flex gap-3 text-sm text-deep">
      <span role="status" className="text-soft">
        {told}
      </span>
      <button type="button" onClick={() => void hand("csv")} className="cursor-pointer hover:underline">
        CSV
      </button>
      <button type="button" onClick={() => void hand("json")} className="cursor-pointer hover:underline">
        JSON
      </button>
    </span>
  );
}
