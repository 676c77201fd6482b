import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type FormEvent, useState } from "react";
import { api, dataOf, etagOf } from "../../api/client";
import { Confirm } from "../../parts/Confirm";
import { Facts } from "../../parts/Facts";
import { LastDecision } from "../../parts/LastDecision";
import { Notice } from "../../parts/Notice";
import { Past } from "../../parts/Past";
import { Refused } from "../../parts/Refused";
import { recordPath } from "../../parts/records";
import { moment } from "../../parts/time";
import { useRole } from "../../queries";
import { typed } from "./attributes";
import { DeviceFields } from "./DeviceFields";
import { changeOf, type Device, draftOf } from "./devices";
import { FormEnd } from "../../parts/FormEnd";

/** A device: what it is, what it was given last, and the way to change it. */
export function DevicePage() {
  const { store, mac } = useParams({ from: "/inside/devices/$store/$mac" });
  const [editing, setEditing] = useState(false);
  const role = useRole();
  const found = useQuery({
    queryKey: ["device", store, mac],
    queryFn: async () => {
      const answer = await api.GET("/api/v1/devices/{store}/{mac}", { params: { path: { store, mac } } });
      return { detail: dataOf(answer), seen: etagOf(answer) };
    },
  });
  if (found.error) return <Notice title="This device cannot be shown" text={found.error.message} />;
  if (!found.data) return null;
  const { detail, seen } = found.data;
  const { device } = detail;
  return (
    <article className="max-w-4xl">
      <title>{`${device.mac} · Regnant`}</title>
      <p className="text-soft">
        <Link to="/devices" className="text-deep underline">
          Devices
        </Link>{" "}
        · {device.store}
      </p>
      <h1 className="mt-2 mb-6 font-serif text-2xl">
        {device.title || "A device"} <span className="text-soft">{device.mac}</span>
      </h1>
      {editing ? (
        <Edit device={device} seen={seen} close={() => setEditing(false)} />
      ) : (
        <>
          {device.barred && (
            <p className="mb-3 border-l-2 border-rust bg-tint px-3 py-2">
              It must stay out: {device.barred.reason || "nobody said why"}.
              {device.barred.by && (
                <span className="text-soft">
                  {" "}
                  Barred by {device.barred.by}
                  {device.barred.at && `, ${moment(device.barred.at)}`}.
                </span>
              )}
            </p>
          )}
          <Facts
            rows={[
              ["groups", <Groups key="groups" names={device.groups} />],
              ["owner", device.owner],
              ["note", device.note],
              ["expires", device.expires && moment(device.expires)],
              ["first seen", detail.first_seen && `${moment(detail.first_seen)}, as far as the journal goes back`],
              ...Object.entries(device.attributes).map(([name, value]): [string, string] => [name, typed(value)]),
              ["named by the policy", detail.named_by.join("; ")],
            ]}
          />
          <div className="mt-5 flex flex-wrap items-center gap-6">
            {role === "engineer" && (
              <button
                type="button"
                onClick={() => setEditing(true)}
                className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper"
              >
                Change
              </button>
            )}
            {role !== "auditor" && <Bar device={device} />}
            {role === "engineer" && <Remove device={device} seen={seen} named={detail.named_by} />}
          </div>
          <LastDecision title="Last decision" heard={detail.heard} q={device.mac} />
          <Past record={recordPath("device", device.store, device.mac)} />
        </>
      )}
    </article>
  );
}

function Groups({ names }: { names: string[] }) {
  return names.map((group, place) => (
    <span key={group}>
      {place > 0 && ", "}
      <Link to="/devices" search={{ group }} className="text-deep hover:underline">
        {group}
      </Link>
    </span>
  ));
}

function Bar({ device }: { device: Device }) {
  const [reason, setReason] = useState("");
  const queries = useQueryClient();
  const bar = useMutation({
    mutationFn: async () =>
      dataOf(
        await api.PUT("/api/v1/devices/bar", {
          body: { macs: [device.mac], ...(device.barred ? {} : { reason: reason.trim() }) },
        }),
      ),
    onSuccess: async () => {
      setReason("");
      await queries.invalidateQueries();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    bar.mutate();
  };
  const { barred } = device;
  if (barred) {
    return (
      <Confirm
        action="Let it in again"
        title={`Let ${device.mac} in again?`}
        keep="Leave it out"
        confirm="Let it in again"
        error={bar.error}
        busy={bar.isPending}
        act={() => bar.mutate()}
      >
        <p>
          {barred.by ? `${barred.by} barred it${barred.at ? `, ${moment(barred.at)}` : ""}` : "It is barred"}:{" "}
          {barred.reason || "nobody said why"}.
        </p>
      </Confirm>
    );
  }
  return (
    <form onSubmit={submit} className="flex flex-wrap items-center gap-3">
      <input
        aria-label="Why it is barred"
        placeholder="Why it must stay out"
        value={reason}
        onChange={(event) => setReason(event.target.value)}
        className="w-80 rounded-sm border border-soft bg-sheet px-3 py-1"
      />
      <button
        type="submit"
        disabled={bar.isPending || !reason.trim()}
        className="cursor-pointer rounded-sm border border-rust px-4 py-1 text-rust disabled:opacity-50"
      >
        Bar it
      </button>
      <Refused error={bar.error} />
    </form>
  );
}

function Edit({ device, seen, close }: { device: Device; seen: string; close: () => void }) {
  const [draft, setDraft] = useState(() => draftOf(device));
  const [began] = useState(seen);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const changed = useMutation({
    mutationFn: async () =>
      dataOf(
        await api.PATCH("/api/v1/devices/{store}/{mac}", {
          params: { path: { store: device.store, mac: device.mac }, header: { "If-Match": began } },
          body: changeOf(draft),
        }),
      ),
    onSuccess: async (now) => {
      await queries.invalidateQueries();
      close();
      await navigate({ to: "/devices/$store/$mac", params: { store: now.store, mac: now.mac }, replace: true });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    changed.mutate();
  };
  return (
    <form onSubmit={submit} className="max-w-2xl">
      <DeviceFields draft={draft} change={setDraft} />
      <FormEnd act="Save" busy={changed.isPending} error={changed.error} cancel={close} />
    </form>
  );
}

function Remove({ device, seen, named }: { device: Device; seen: string; named: string[] }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const { store, mac } = device;
  const removed = useMutation({
    mutationFn: async () => {
      await api.DELETE("/api/v1/devices/{store}/{mac}", { params: { path: { store, mac }, header: { "If-Match": seen } } });
    },
    onSuccess: async () => {
      await navigate({ to: "/devices" });
      queries.removeQueries({ queryKey: ["device", store, mac] });
      await queries.invalidateQueries();
    },
  });
  return (
    <Confirm
      action="Remove"
      title={`Remove ${mac}?`}
      keep="Keep it"
      confirm="Remove it"
      error={removed.error}
      busy={removed.isPending}
      forbidden={named.length > 0}
      act={() => removed.mutate()}
    >
      {device.barred
        ? "It is barred, and would be so no more: at its next request it is treated like every unknown device."
        : "It is not known any more: at its next request it is treated like every unknown device."}
      {named.length > 0 && ` The active policy names it (${named.join("; ")}), so that it stays until that changes.`}
    </Confirm>
  );
}
