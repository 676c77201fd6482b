import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, dataOf } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { Refused } from "../../parts/Refused";
import { words } from "../../parts/records";

type Account = { store: string; name: string };

/** What is done with several people or machines, all or none. */
export function Together(props: { kind: "people" | "machines"; chosen: Account[]; clear: () => void }) {
  const { kind, chosen } = props;
  const [groups, setGroups] = useState("");
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: async (what: { into?: string[]; out_of?: string[]; disabled?: boolean; remove?: boolean }) => {
      const accounts = chosen.map(({ store, name }) => ({ store, name }));
      const named = kind === "people" ? { people: accounts } : { machines: accounts };
      return dataOf(await api.POST("/api/v1/accounts/act", { body: { ...named, ...what } }));
    },
    onSuccess: async () => {
      props.clear();
      await queries.invalidateQueries();
    },
  });
  if (chosen.length === 0) {
    return (
      <p role="status" className="mb-2 text-sm text-soft">
        {act.data ? `${act.data.accounts} changed.` : "Choose some to change them together."}
      </p>
    );
  }
  const button = "cursor-pointer text-deep hover:underline disabled:cursor-default disabled:text-soft disabled:no-underline";
  return (
    <section aria-label="Change together" className="mb-3 border-l-2 border-deep bg-tint px-3 py-2">
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
        <span className="font-semibold">{chosen.length} chosen</span>
        <button type="button" onClick={() => act.mutate({ disabled: true })} className={button}>
          Disable
        </button>
        <button type="button" onClick={() => act.mutate({ disabled: false })} className={button}>
          Enable
        </button>
        <span className="flex items-center gap-2">
          <input
            aria-label="Groups"
            placeholder="Groups"
            value={groups}
            onChange={(event) => setGroups(event.target.value)}
            className="w-44 rounded-sm border border-soft bg-sheet px-2"
          />
          <button type="button" disabled={!groups.trim()} onClick={() => act.mutate({ into: words(groups) })} className={button}>
            Put into
          </button>
          <button
            type="button"
            disabled={!groups.trim()}
            onClick={() => act.mutate({ out_of: words(groups) })}
            className={button}
          >
            Take out of
          </button>
        </span>
        <Confirm
          action="Remove"
          title={`Remove ${chosen.length} of them?`}
          keep="Keep them"
          confirm="Remove them"
          error={act.error}
          busy={act.isPending}
          act={() => act.mutate({ remove: true })}
        >
          They cannot prove themselves any more. Where the active policy names one, all of them stay.
        </Confirm>
        <button type="button" onClick={props.clear} className={`ml-auto ${button}`}>
          Cancel
        </button>
      </div>
      <Refused error={act.error} />
    </section>
  );
}
