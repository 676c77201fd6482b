import type { components } from "../../api/schema";

type Certificate = components["schemas"]["CertificateReport"];
type Link = components["schemas"]["LinkReport"];

/** A day, from seconds since 1970. */
export const day = (seconds: number) => new Date(seconds * 1000).toISOString().slice(0, 10);

/** From when until when, and how long that is from now. */
export function ends(link: Pick<Link, "not_before" | "not_after" | "days_left">): string {
  const left = link.days_left;
  const told =
    left < 0 ? `ended ${-left} days ago` : left === 0 ? "ends today" : left === 1 ? "ends tomorrow" : `${left} days left`;
  return `${day(link.not_before)} to ${day(link.not_after)}, ${told}`;
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
