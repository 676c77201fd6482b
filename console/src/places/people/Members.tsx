import { Link } from "@tanstack/react-router";
import type { Group } from "./people";

/** Who and what is in a group, each kind with the way to its list. */
export function Members({ group }: { group: Group }) {
  const link = "relative z-10 text-deep hover:underline";
  const said = [
    group.people > 0 && (
      <Link key="people" to="/people" search={{ q: group.name }} className={link}>
        {group.people === 1 ? "1 person" : `${group.people} people`}
      </Link>
    ),
    group.machines > 0 && (
      <Link key="machines" to="/people" search={{ show: "machines", q: group.name }} className={link}>
        {group.machines === 1 ? "1 machine" : `${group.machines} machines`}
      </Link>
    ),
    group.devices > 0 && (
      <Link key="devices" to="/devices" search={{ group: group.name }} className={link}>
        {group.devices === 1 ? "1 device" : `${group.devices.toLocaleString("en-GB")} devices`}
      </Link>
    ),
  ].filter(Boolean);
  if (said.length === 0) return <span className="text-rust">nobody is in it</span>;
  return <span className="flex gap-3">{said}</span>;
}
