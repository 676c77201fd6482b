import type { components } from "../../api/schema";

type Certificate = components["schemas"]["CertificateReport"];
type Link = components["schemas"]["LinkReport"];
type List = components["schemas"]["ListReport"];

/** A day, from seconds since 1970. */
export const day = (seconds: number) => new Date(seconds * 1000).toISOString().slice(0, 10);

const days = (count: number) => (count === 1 ? "1 day" : `${count} days`);

function told(left: number): string {
  if (left < 0) return `ended ${days(-left)} ago`;
  if (left <= 1) return left === 0 ? "ends today" : "ends tomorrow";
  return `${days(left)} left`;
}

/** From when until when, and how long that is from now. */
export function ends(link: Pick<Link, "not_before" | "not_after" | "days_left">): string {
  return `${day(link.not_before)} to ${day(link.not_after)}, ${told(link.days_left)}`;
}

/** The same for a revocation list, which may have no end. */
export function lasts(list: Pick<List, "this_update" | "next_update" | "days_left">): string {
  if (list.next_update == null || list.days_left == null) return `since ${day(list.this_update)}, without an end`;
  return `${day(list.this_update)} to ${day(list.next_update)}, ${told(list.days_left)}`;
}

/** Gates for which a supplicant profile can be made. */
export function gatesWithProfiles(certificates: Pick<Certificate, "gates" | "pending">[]): string[] {
  const gates = certificates.filter((certificate) => !certificate.pending).flatMap((certificate) => certificate.gates);
  return [...new Set(gates)];
}

/** The address of a profile. */
export function profileAddress(gate: string, platform: string, ssid: string): string {
  const query = new URLSearchParams({ gate, platform });
  if (ssid.trim()) query.set("ssid", ssid.trim());
  return `/api/v1/supplicant-profile?${query}`;
}
