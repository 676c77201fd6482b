import { useState } from "react";
import { profileAddress } from "./certificates";

const PLATFORMS = [
  ["apple", "Apple"],
  ["windows", "Windows"],
  ["wpa-supplicant", "wpa_supplicant"],
  ["network-manager", "NetworkManager"],
  ["android", "Android (Passpoint)"],
] as const;

/** Hands out what a supplicant needs so that it trusts the right server. */
export function Profiles({ gates }: { gates: string[] }) {
  const [gate, setGate] = useState(gates[0] ?? "");
  const [ssid, setSsid] = useState("");
  const [trouble, setTrouble] = useState<string>();
  if (gates.length === 0) return null;
  const fetchProfile = async (platform: string) => {
    setTrouble(undefined);
    const answer = await fetch(profileAddress(gate, platform, ssid));
    if (!answer.ok) {
      const body: unknown = await answer.json().catch(() => ({}));
      setTrouble(String((body as { error?: string }).error ?? `The service answered ${answer.status}.`));
      return;
    }
    const name = /filename="([^"]+)"/.exec(answer.headers.get("content-disposition") ?? "")?.[1] ?? "profile";
    const link = document.createElement("a");
    link.href = URL.createObjectURL(await answer.blob());
    link.download = name;
    link.click();
    URL.revokeObjectURL(link.href);
  };
  return (
    <section>
      <h2 className="mb-1 text-lg font-semibold">Supplicant profiles</h2>
      <p className="mb-3 text-soft">They tell a client which server to trust, so that nobody has to accept a warning.</p>
      <div className="mb-3 flex flex-wrap gap-4">
        <label className="text-sm">
          <span className="block text-soft">Gate</span>
          <select
            value={gate}
            onChange={(e) => setGate(e.target.value)}
            className="rounded-sm border border-line bg-paper px-2 py-1"
          >
            {gates.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
        <label className="text-sm">
          <span className="block text-soft">Wireless network, empty for wired</span>
          <input
            value={ssid}
            maxLength={32}
            onChange={(e) => setSsid(e.target.value)}
            className="rounded-sm border border-line bg-paper px-2 py-1"
          />
        </label>
      </div>
      <div className="flex flex-wrap gap-2">
        {PLATFORMS.map(([platform, name]) => (
          <button
            key={platform}
            type="button"
            onClick={() => void fetchProfile(platform)}
            className="cursor-pointer rounded-sm border border-line px-3 py-1 text-deep hover:bg-tint"
          >
            {name}
          </button>
        ))}
      </div>
      {trouble && (
        <p role="alert" className="my-3 border-l-2 border-deep bg-tint px-3 py-2">
          {trouble}
        </p>
      )}
    </section>
  );
}
