import { useId } from "react";
import type { components } from "../../../api/schema";

type Member = components["schemas"]["Members"];

const BOX = "rounded-sm border border-soft bg-sheet px-3 py-1";

/** Groups with a VLAN each. */
export function Memberships(props: { what: string; known: string[]; members: Member[]; change: (members: Member[]) => void }) {
  const { what, known, members, change } = props;
  const list = useId();
  const at = (place: number, some: Partial<Member>) =>
    change(members.map((one, index) => (index === place ? { ...one, ...some } : one)));
  return (
    <div className="grid gap-2">
      <datalist id={list}>
        {known.map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
      {members.map((member, place) => (
        <div key={place} className="flex items-center gap-3">
          <input
            aria-label={`Group ${place + 1} of ${what}`}
            list={list}
            placeholder="group"
            className={`${BOX} w-64`}
            value={member.group}
            onChange={(event) => at(place, { group: event.target.value })}
          />
          <input
            aria-label={`VLAN of group ${place + 1} of ${what}`}
            type="number"
            min={1}
            max={4094}
            className={`${BOX} w-28`}
            value={member.vlan || ""}
            onChange={(event) => at(place, { vlan: Number(event.target.value) })}
          />
          <button
            type="button"
            className="cursor-pointer text-rust hover:underline"
            onClick={() => change(members.filter((_, index) => index !== place))}
          >
            Remove
          </button>
        </div>
      ))}
      <button
        type="button"
        className="cursor-pointer justify-self-start text-deep hover:underline"
        onClick={() => change([...members, { group: "", vlan: 0 }])}
      >
        Add a group of {what}
      </button>
    </div>
  );
}
