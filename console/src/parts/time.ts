const CLOCK = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", second: "2-digit" });
const DAY = new Intl.DateTimeFormat("en-GB", { weekday: "long", day: "numeric", month: "long", year: "numeric" });

/** The time of day where the reader is: 14:02:11. */
export function clock(at: string): string {
  return CLOCK.format(new Date(at));
}

/** The day: Monday 23 November 2026. */
export function day(at: string): string {
  return DAY.format(new Date(at));
}

/** Microseconds as people read them: 85 µs, 45.2 ms. */
export function span(micros: number): string {
  return micros < 1_000 ? `${micros} µs` : `${(micros / 1_000).toFixed(1)} ms`;
}

const MOMENT = new Intl.DateTimeFormat("en-GB", {
  day: "2-digit",
  month: "short",
  year: "numeric",
  hour: "2-digit",
  minute: "2-digit",
});

/** A day and time of day: 26 Nov 2026, 14:02. */
export function moment(at: string): string {
  return MOMENT.format(new Date(at));
}
