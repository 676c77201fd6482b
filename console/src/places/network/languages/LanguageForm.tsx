import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, dataOf, over } from "../../../api/client";

/** A file about how equipment speaks, pasted or chosen; the active policy goes on with it. */
export function LanguageForm(props: {
  kind: "dialect" | "dictionary";
  known: { name: string; etag?: string | null }[];
  text?: string;
  done: () => void;
}) {
  const { kind } = props;
  const [text, setText] = useState(props.text ?? "");
  const [file, setFile] = useState(`${kind}.toml`);
  const queries = useQueryClient();
  const added = useMutation({
    mutationFn: async () => {
      const body = { file, text };
      const name = nameIn(text);
      const params = { header: over(props.known.find((one) => one.name.toLowerCase() === name)) };
      return dataOf(
        kind === "dialect"
          ? await api.POST("/api/v1/dialects", { params, body })
          : await api.POST("/api/v1/dictionaries", { params, body }),
      );
    },
    onSuccess: () => void queries.invalidateQueries(),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    added.mutate();
  };
  const choose = async (chosen: File | undefined) => {
    if (!chosen) return;
    setFile(chosen.name);
    setText(await chosen.text());
  };
  return (
    <form aria-label={`A ${kind}`} onSubmit={submit} className="mb-6 border border-line bg-sheet p-4">
      <textarea
        aria-label={`The text of the ${kind}`}
        rows={12}
        spellCheck={false}
        value={text}
        onChange={(event) => setText(event.target.value)}
        className="w-full rounded-sm border border-soft bg-paper px-3 py-1 font-mono text-sm"
      />
      <p className="mt-1 text-sm text-soft">
        TOML, as docs/{kind === "dialect" ? "dialects" : "dictionaries"}.md tells. One of the same name is replaced; what does not
        go together changes nothing.
      </p>
      {added.error && (
        <pre className="mt-3 overflow-x-auto border-l-2 border-rust bg-tint px-3 py-2 text-sm whitespace-pre-wrap">
          {added.error.message}
        </pre>
      )}
      {added.data && (
        <p role="status" className="mt-3 border-l-2 border-deep bg-tint px-3 py-2">
          {added.data.name} is taken; the active policy is edition {added.data.edition} with it.
        </p>
      )}
      <p className="mt-3 flex items-center gap-6">
        <button
          type="submit"
          disabled={!text.trim() || added.isPending}
          className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:opacity-50"
        >
          Take it
        </button>
        <input
          type="file"
          aria-label={`A ${kind} from a file`}
          accept=".toml"
          onChange={(event) => void choose(event.target.files?.[0])}
        />
        <button type="button" onClick={props.done} className="ml-auto cursor-pointer text-deep hover:underline">
          Close
        </button>
      </p>
    </form>
  );
}

/** What a file will be known by, as far as a look at it tells: its own name, or that of its vendor. */
function nameIn(text: string): string | undefined {
  const [top = "", ...tables] = text.split(/^\s*(?=\[)/m);
  const vendor = tables.find((table) => /^\[\s*vendor\s*\]/.test(table));
  return /^\s*name\s*=\s*["']([^"']+)["']/m.exec(vendor ?? top)?.[1]?.toLowerCase();
}
