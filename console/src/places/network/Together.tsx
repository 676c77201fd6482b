import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, dataOf } from "../../api/client";
import type { components } from "../../api/schema";
import { Confirm } from "../../parts/Confirm";
import { Refused } from "../../parts/Refused";
import { words } from "../../parts/records";
import { MOST } from "../../queries";

type Act = Omit<components["schemas"]["NasesAct"], "names">;

/** What is done with several NASes, all or none. */
export function Together({ chosen, clear }: { chosen: string[]; clear: () => void }) {
  const [site, setSite] = useState("");
  const [tags, setTags] = useState("");
  const queries = useQueryClient();
  const dialects = useQuery({
    queryKey: ["dialects"],
    queryFn: async () => dataOf(await api.GET("/api/v1/dialects", { params: { query: { limit: MOST } } })),
  });
  const act = useMutation({
    mutationFn: async (what: Act) => dataOf(await api.POST("/api/v1/nases/act", { body: { names: chosen, ...what } })),
    onSuccess: async () => {
      clear();
      await queries.invalidateQueries();
    },
  });
  if (chosen.length === 0) {
    return (
      <p role="status" className="mb-2 text-sm text-soft">
        {act.data ? `${act.data.nases} changed.` : "Choose some to change them together."}
      </p>
    );
  }
  const button = "cursor-pointer text-deep hover:underline disabled:cursor-default disabled:text-soft disabled:no-underline";
  const box = "rounded-sm border border-soft bg-sheet px-2";
  return (
    <section aria-label="Change together" className="mb-3 border-l-2 border-deep bg-tint px-3 py-2">
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
        <span className="font-semibold">{chosen.length} chosen</span>
        <button type="button" onClick={() => act.mutate({ require_message_authenticator: true })} className={button}>
          Require Message-Authenticator
        </button>
        <span className="flex items-center gap-2">
          <input
            aria-label="Site"
            placeholder="Site"
            value={site}
            onChange={(event) => setSite(event.target.value)}
            className={`w-36 ${box}`}
          />
          <button type="button" disabled={!site.trim()} onClick={() => act.mutate({ site: site.trim() })} className={button}>
            Move there
          </button>
        </span>
        <select
          aria-label="Dialect"
          value=""
          onChange={(event) => event.target.value && act.mutate({ dialect: event.target.value })}
          className={box}
        >
          <option value="">Dialect …</option>
          {dialects.data?.dialects.map((dialect) => (
            <option key={dialect.name}>{dialect.name}</option>
          ))}
        </select>
        <span className="flex items-center gap-2">
          <input
            aria-label="Tags"
            placeholder="Tags"
            value={tags}
            onChange={(event) => setTags(event.target.value)}
            className={`w-36 ${box}`}
          />
          <button type="button" disabled={!tags.trim()} onClick={() => act.mutate({ tag: words(tags) })} className={button}>
            Tag
          </button>
          <button type="button" disabled={!tags.trim()} onClick={() => act.mutate({ untag: words(tags) })} className={button}>
            Untag
          </button>
        </span>
        <Confirm
          action="Remove"
          title={chosen.length === 1 ? `Remove ${chosen[0]}?` : `Remove ${chosen.length} NASes?`}
          keep="Keep them"
          confirm="Remove them"
          error={act.error}
          busy={act.isPending}
          act={() => act.mutate({ remove: true })}
        >
          Their packets are not heard any more. Where the active policy names one, all of them stay.
        </Confirm>
        <button type="button" onClick={clear} className={`ml-auto ${button}`}>
          Cancel
        </button>
      </div>
      <Refused error={act.error} />
    </section>
  );
}
