import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { useCallback, useState } from "react";
import { Exports } from "../../parts/Exports";
import { ImportFile } from "../../parts/ImportFile";
import { Mark } from "../../parts/Mark";
import { Notice } from "../../parts/Notice";
import { PlaceHead } from "../../parts/PlaceHead";
import { Rows } from "../../parts/Rows";
import { moment } from "../../parts/time";
import { useRole } from "../../queries";
import { declared, ofDevices } from "./attributes";
import { type Device, devicePage, type DeviceSearch, everyDevice, FIELDS } from "./devices";
import { Together } from "./Together";
import { useSeen } from "./useSeen";

/** Devices by their addresses: found by a few digits or words, and changed together. */
export function Devices() {
  const search = useSearch({ from: "/inside/devices" });
  const navigate = useNavigate();
  const role = useRole();
  const [importing, setImporting] = useState(false);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const pages = useInfiniteQuery({
    queryKey: ["devices", search],
    queryFn: ({ pageParam }) => devicePage(search, pageParam || undefined),
    initialPageParam: "",
    getNextPageParam: (page) => page.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  const known = useQuery(declared);
  const fields = [...FIELDS, ...ofDevices(known.data?.attributes ?? []).map(({ name }) => `attributes.${name}`)];
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = pages;
  const more = useCallback(() => {
    if (hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage]);
  const look = (change: DeviceSearch) => void navigate({ to: "/devices", search: change, replace: true });
  const devices = pages.data?.pages.flatMap((page) => page.devices) ?? [];
  const all = pages.data?.pages[0]?.all ?? 0;
  const seen = useSeen(devices.map((device) => device.mac));
  if (pages.error) return <Notice title="Devices cannot be shown" text={pages.error.message} />;
  const choose = (mac: string, is: boolean) => {
    const next = new Set(chosen);
    if (is) next.add(mac);
    else next.delete(mac);
    setChosen(next);
  };
  return (
    <>
      <title>Devices · Regnant</title>
      <PlaceHead
        title="Devices"
        placeholder="Digits of an address, title, owner …"
        q={search.q ?? ""}
        look={(q) => look({ ...search, q: q || undefined })}
      >
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            checked={search.barred ?? false}
            onChange={(event) => look({ ...search, barred: event.target.checked || undefined })}
          />
          barred only
        </label>
        {search.group && (
          <button
            type="button"
            onClick={() => look({ ...search, group: undefined })}
            className="cursor-pointer rounded-sm bg-tint px-2"
          >
            group {search.group} ×
          </button>
        )}
        <span className="ml-auto flex items-center gap-5">
          <Exports name="devices" fields={fields} all={() => everyDevice(search)} />
          <Link to="/devices/attributes" className="text-deep hover:underline">
            Attributes
          </Link>
          {role === "engineer" && (
            <>
              <button type="button" onClick={() => setImporting(!importing)} className="cursor-pointer text-deep hover:underline">
                Import
              </button>
              <Link to="/devices/new" className="rounded-sm bg-deep px-3 py-1 text-paper">
                Add a device
              </Link>
            </>
          )}
        </span>
      </PlaceHead>
      {importing && <ImportFile kind="devices" done={() => setImporting(false)} />}
      {role !== "auditor" && <Together chosen={[...chosen]} clear={() => setChosen(new Set())} />}
      {pages.data && devices.length === 0 ? (
        <p className="text-soft">
          {all === 0
            ? "No store lists a device yet: add the first, or import a file."
            : `None of ${all.toLocaleString("en-GB")} fits.`}
        </p>
      ) : (
        <Rows label="Devices" rows={devices} keyOf={(device) => `${device.store}/${device.mac}`} more={more}>
          {(device) => (
            <Line
              device={device}
              seen={seen.get(device.mac)}
              chosen={chosen.has(device.mac)}
              choose={role === "auditor" ? undefined : choose}
            />
          )}
        </Rows>
      )}
      {pages.data && devices.length > 0 && (
        <p role="status" className="py-2 text-sm text-soft">
          {hasNextPage
            ? `${devices.length.toLocaleString("en-GB")} shown, more below`
            : `${devices.length.toLocaleString("en-GB")} shown`}{" "}
          of {all.toLocaleString("en-GB")} that there are.
        </p>
      )}
    </>
  );
}

function Line(props: {
  device: Device;
  seen: string | undefined;
  chosen: boolean;
  choose: ((mac: string, is: boolean) => void) | undefined;
}) {
  const { device, seen, chosen, choose } = props;
  return (
    <div className="grid h-full grid-cols-[1.5rem_9.5rem_1.4fr_0.8fr_0.8fr_1.2fr_11rem] items-center gap-x-4">
      {choose ? (
        <input
          type="checkbox"
          aria-label={`Choose ${device.mac}`}
          checked={chosen}
          onChange={(event) => choose(device.mac, event.target.checked)}
          className="relative z-10"
        />
      ) : (
        <span />
      )}
      <Link
        to="/devices/$store/$mac"
        params={{ store: device.store, mac: device.mac }}
        className="font-semibold text-deep after:absolute after:inset-0"
      >
        {device.mac}
      </Link>
      <span className="truncate">{device.title}</span>
      <span className="truncate">{device.groups.join(", ")}</span>
      <span className="truncate text-soft">{device.owner}</span>
      <span className="truncate">
        {device.barred && (
          <>
            <span className="-my-1 inline-block align-middle">
              <Mark of="refused" />
            </span>{" "}
            barred{device.barred.by ? ` by ${device.barred.by}` : ""}: {device.barred.reason || "nobody said why"}
          </>
        )}
        {!device.barred && device.expires && <span className="text-soft">until {moment(device.expires)}</span>}
      </span>
      <span className="truncate text-right text-sm text-soft">{seen ? `seen ${moment(seen)}` : ""}</span>
    </div>
  );
}
