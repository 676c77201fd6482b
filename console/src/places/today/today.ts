import type { components } from "../../api/schema";

export type Story = components["schemas"]["StoryView"];
export type End = components["schemas"]["EndView"];

const DONE: Record<string, string> = {
  refused: "refused",
  observed: "would have been refused, and let in since the gate is watched",
  silence: "left without an answer",
  unfinished: "never finished",
};

/** How often something did not go well: 23 times refused. */
export function times(story: Pick<Story, "number" | "outcome">): string {
  const done = DONE[story.outcome] ?? story.outcome;
  return `${story.number === 1 ? "Once" : `${story.number.toLocaleString("en-GB")} times`} ${done}`;
}

/** Where something that ends is kept. */
export function linkOf(end: End) {
  const store = end.store ?? "";
  switch (end.kind) {
    case "device":
      return { to: "/devices/$store/$mac", params: { store, mac: end.name } } as const;
    case "person":
      return { to: "/people/$store/$name", params: { store, name: end.name } } as const;
    case "machine":
      return { to: "/machines/$store/$name", params: { store, name: end.name } } as const;
    case "former-secret":
      return { to: "/network/$name", params: { name: end.name } } as const;
    case "token":
      return { to: "/settings" } as const;
    default:
      return { to: "/certificates" } as const;
  }
}
