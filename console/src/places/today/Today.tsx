import { useQuery } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { lazy, Suspense } from "react";
import { api, dataOf } from "../../api/client";
import { Mark } from "../../parts/Mark";
import { Notice } from "../../parts/Notice";
import { Prose } from "../../parts/Prose";
import { clock, moment } from "../../parts/time";
import { UnheardSenders } from "../network/UnheardSenders";
import { type End, linkOf, type Story, times } from "./today";

const Hours = lazy(() => import("../../parts/Hours"));

/** How often it is looked again. */
const AGAIN_MS = 15_000;

/** What is odd now, with what to do about it. */
export function Today() {
  const today = useQuery({
    queryKey: ["today"],
    queryFn: async () => dataOf(await api.GET("/api/v1/today")),
    refetchInterval: AGAIN_MS,
  });
  if (today.error) return <Notice title="Today cannot be shown" text={today.error.message} />;
  const { data } = today;
  return (
    <div className="max-w-5xl">
      <title>Today · Regnant</title>
      <header className="mb-4 border-b border-ink pb-3">
        <h1 className="font-serif text-2xl">Today</h1>
      </header>
      <section aria-label="Decisions of the last day" className="mb-8 min-h-52">
        <Suspense fallback={<p className="text-soft">Drawing …</p>}>{data && <Hours hours={data.hours} />}</Suspense>
      </section>
      {data?.guessed && (
        <p role="status" className="mb-6 border-l-2 border-ochre bg-tint px-3 py-2">
          <strong>Somebody has your password:</strong> {data.guessed.codes} wrong codes came with it, the last from{" "}
          {data.guessed.from}, {moment(data.guessed.last)}. If that was not you, set another password under{" "}
          <Link to="/settings" className="text-deep underline">
            Settings
          </Link>
          .
        </p>
      )}
      <UnheardSenders />
      {data && (
        <>
          {data.down.length > 0 && (
            <Section title="Stores that do not answer" none="">
              {data.down.map((down) => (
                <li key={down.store} className="border-b border-line py-2">
                  <p className="flex items-baseline gap-3 font-serif text-[17px]">
                    <span className="self-center">
                      <Mark of="silence" />
                    </span>
                    <span>
                      <Link to="/people/stores/$name" params={{ name: down.store }} className="font-semibold">
                        {down.store}
                      </Link>{" "}
                      since {moment(down.since)}: {down.why}
                      {down.failed > 0 &&
                        ` (${down.failed === 1 ? "1 question" : `${down.failed.toLocaleString("en-GB")} questions`} without an answer)`}
                      .
                    </span>
                  </p>
                  <p className="ml-7 text-soft">
                    {down.remedy}{" "}
                    {down.in_policy
                      ? "Whoever is in another store, and whoever needs none, is served meanwhile."
                      : "The active policy does not ask it."}
                  </p>
                </li>
              ))}
            </Section>
          )}
          <Section title="What did not go well" none="Nobody was refused within the last day.">
            {data.stories.map((story) => (
              <StoryLine key={`${story.outcome} ${story.why} ${story.gate ?? ""} ${story.rule ?? ""}`} story={story} />
            ))}
          </Section>
          {data.policy.length > 0 && (
            <Section title="The policy" none="">
              {data.policy.map((odd) => (
                <li key={`${odd.file} ${odd.line} ${odd.code}`} className="border-b border-line py-1.5">
                  <p>
                    {capital(odd.message)}{" "}
                    <Link to="/policy" search={{ file: odd.file, line: odd.line }} className="text-deep underline">
                      {odd.file}, line {odd.line}
                    </Link>
                  </p>
                  {odd.remedy && <p className="text-soft">{capital(odd.remedy)}.</p>}
                </li>
              ))}
            </Section>
          )}
          <Section title="What ends soon" none="Nothing ends within a week.">
            {data.ends.map((end) => (
              <EndLine key={`${end.kind} ${end.store ?? ""} ${end.name}`} end={end} />
            ))}
          </Section>
          {data.silent.length > 0 && (
            <Section title="Heard once, and not for a day" none="">
              {data.silent.map((nas) => (
                <li key={nas.name} className="border-b border-line py-1.5">
                  <Link to="/network/$name" params={{ name: nas.name }} className="font-semibold text-deep">
                    {nas.name}
                  </Link>{" "}
                  <span className="text-soft">
                    last heard {moment(nas.last)}: is it switched off, or does it ask somebody else?
                  </span>
                </li>
              ))}
            </Section>
          )}
          {data.unsigned.length > 0 && (
            <p className="mb-6 border-l-2 border-ochre bg-tint px-3 py-2">
              Need not sign their requests, so that answers to them can be forged on the way:{" "}
              {data.unsigned.map(({ name, signed_since }, place) => (
                <span key={name}>
                  {place > 0 && ", "}
                  <Link to="/network/$name" params={{ name }} className="text-deep underline">
                    {name}
                  </Link>
                  {signed_since && ` (all signed since ${moment(signed_since)})`}
                </span>
              ))}
              . Update them, then require Message-Authenticator.
            </p>
          )}
        </>
      )}
    </div>
  );
}

function Section(props: { title: string; none: string; children: React.ReactNode[] }) {
  return (
    <section className="mb-8">
      <h2 className="mb-2 text-lg font-semibold">{props.title}</h2>
      {props.children.length === 0 ? (
        <p className="border-t border-line py-1.5 text-soft">{props.none}</p>
      ) : (
        <ul aria-label={props.title} className="border-t border-line">
          {props.children}
        </ul>
      )}
    </section>
  );
}

function StoryLine({ story }: { story: Story }) {
  return (
    <li className="border-b border-line py-2">
      <p className="flex items-baseline gap-3 font-serif text-[17px]">
        <span className="self-center">
          <Mark of={story.outcome} />
        </span>
        <span>
          <Link to="/journal" search={{ outcome: story.outcome, ...(story.q ? { q: story.q } : {}) }} className="font-semibold">
            {times(story)}
          </Link>{" "}
          <Prose text={story.why} />
          {story.nases.length > 0 && (
            <>
              , on{" "}
              {story.nases.slice(0, 4).map((name, place) => (
                <span key={name}>
                  {place > 0 && ", "}
                  <Link to="/network/$name" params={{ name }} className="italic">
                    {name}
                  </Link>
                </span>
              ))}
              {story.nases.length > 4 && ` and ${story.nases.length - 4} more`}
            </>
          )}
          , since {clock(story.since).slice(0, 5)}.
        </span>
      </p>
      <p className="ml-7 text-soft">
        <Prose text={story.remedy} />
      </p>
    </li>
  );
}

function EndLine({ end }: { end: End }) {
  return (
    <li className="relative grid grid-cols-[11rem_7rem_14rem_1fr] items-baseline gap-x-4 border-b border-line py-1.5 hover:bg-tint">
      <span>{moment(end.at)}</span>
      <span className="text-soft">{end.kind}</span>
      <Link {...linkOf(end)} className="truncate font-semibold text-deep after:absolute after:inset-0">
        {end.name}
      </Link>
      <span className="truncate text-soft">{end.title}</span>
    </li>
  );
}

function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}
