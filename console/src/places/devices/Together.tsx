import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, dataOf } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { Refused } from "../../parts/Refused";
import { words } from "../../parts/records";
import { useRole } from "../../queries";
import { addressesIn } from "./devices";

/** What is done with several devices: those that were chosen, or that are pasted. */
export function Together({ chosen, clear }: { chosen: string[]; clear: () => void }) {
  const role = useRole();
  const queries = useQueryClient();
  const [pasting, setPasting] = useState(false);
  const [pasted, setPasted] = useState("");
  const [reason, setReason] = useState("");
  const [groups, setGroups] = useState("");
  const macs = pasting ? addressesIn(pasted) : chosen;
  const done = async () => {
    clear();
    setPasted("");
    await queries.invalidateQueries();
  };
  const bar = useMutation({
    mutationFn: async (why: string | undefined) =>
      dataOf(await api.PUT("/api/v1/devices/bar", { body: { macs, ...(why ? { reason: why } : {}) } })),
    onSuccess: done,
  });
  const act = useMutation({
    mutationFn: async (what: { into?: string[]; out_of?: string[]; remove?: boolean }) =>
      dataOf(await api.POST("/api/v1/devices/act", { body: { macs, ...what } })),
    onSuccess: done,
  });
  const acted = bar.data ?? act.data;
  if (chosen.length === 0 && !pasting) {
    return (
      <p className="mb-2 flex gap-4 text-sm text-soft">
        Choose devices to change them together, or
        <button type="button" onClick={() => setPasting(true)} className="cursor-pointer text-deep hover:underline">
          paste addresses
        </button>
        {acted && <span role="status">{acted.devices === 1 ? "1 device changed." : `${acted.devices} devices changed.`}</span>}
      </p>
    );
  }
  const button = "cursor-pointer text-deep hover:underline disabled:cursor-default disabled:text-soft disabled:no-underline";
  return (
    <section aria-label="Change together" className="mb-3 border-l-2 border-deep bg-tint px-3 py-2">
      {pasting && (
        <textarea
          aria-label="Addresses"
          rows={3}
          placeholder="Addresses in any notation, with anything between them"
          value={pasted}
          onChange={(event) => setPasted(event.target.value)}
          className="mb-2 w-full rounded-sm border border-soft bg-sheet px-3 py-1"
        />
      )}
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
        <span className="font-semibold">{macs.length === 1 ? "1 device" : `${macs.length} devices`}</span>
        <span className="flex items-center gap-2">
          <input
            aria-label="Why they are barred"
            placeholder="Why they must stay out"
            value={reason}
            onChange={(event) => setReason(event.target.value)}
            className="w-56 rounded-sm border border-soft bg-sheet px-2"
          />
          <button
            type="button"
            disabled={macs.length === 0 || !reason.trim()}
            onClick={() => bar.mutate(reason.trim())}
            className={button}
          >
            Bar
          </button>
        </span>
        {macs.length > 0 && (
          <Confirm
            action="Let in again"
            title={macs.length === 1 ? "Let 1 device in again?" : `Let ${macs.length} devices in again?`}
            keep="Leave them out"
            confirm="Let in again"
            error={bar.error}
            busy={bar.isPending}
            act={() => bar.mutate(undefined)}
          >
            <p>Each was barred by somebody, for a reason: the list and its page say by whom, and why.</p>
          </Confirm>
        )}
        {role === "engineer" && (
          <>
            <span className="flex items-center gap-2">
              <input
                aria-label="Groups"
                placeholder="Groups"
                value={groups}
                onChange={(event) => setGroups(event.target.value)}
                className="w-40 rounded-sm border border-soft bg-sheet px-2"
              />
              <button
                type="button"
                disabled={macs.length === 0 || !groups.trim()}
                onClick={() => act.mutate({ into: words(groups) })}
                className={button}
              >
                Put into
              </button>
              <button
                type="button"
                disabled={macs.length === 0 || !groups.trim()}
                onClick={() => act.mutate({ out_of: words(groups) })}
                className={button}
              >
                Take out of
              </button>
            </span>
            {macs.length > 0 && (
              <Confirm
                action="Remove"
                title={macs.length === 1 ? "Remove 1 device?" : `Remove ${macs.length} devices?`}
                keep="Keep them"
                confirm="Remove them"
                error={act.error}
                busy={act.isPending}
                act={() => act.mutate({ remove: true })}
              >
                They are not known any more: at their next request they are treated like every unknown device.
              </Confirm>
            )}
          </>
        )}
        <button
          type="button"
          onClick={() => {
            setPasting(false);
            clear();
          }}
          className={`ml-auto ${button}`}
        >
          Cancel
        </button>
      </div>
      <Refused error={bar.error ?? act.error} />
    </section>
  );
}
