import { useQuery } from "@tanstack/react-query";
import { Link, useLocation } from "@tanstack/react-router";
import { useEffect, useMemo } from "react";
import { type Active, api, dataOf } from "../../api/client";
import { Notice } from "../../parts/Notice";
import { clock, day } from "../../parts/time";
import { anchor, type Item, outline, type Piece, pieces } from "./writ";

const TINTS: Record<Piece["kind"], string> = {
  plain: "",
  keyword: "font-semibold text-deep",
  text: "text-rust",
  comment: "italic text-soft",
  fact: "text-ochre",
};

/** The active policy, to be read. */
export function Policy() {
  const active = useQuery({
    queryKey: ["policy"],
    queryFn: async () => dataOf(await api.GET("/api/v1/policy")),
  });
  if (active.error) return <Notice title="The policy cannot be shown" text={active.error.message} />;
  if (!active.data) return null;
  return <Edition active={active.data} />;
}

function Edition({ active: { edition, report } }: { active: Active }) {
  const files = useMemo(() => {
    const all = [["main.writ", edition.source], ...Object.entries(edition.included)] as const;
    return all.map(([path, source]) => ({ path, source, items: outline(source) }));
  }, [edition]);
  const target = decodeURIComponent(useLocation({ select: (location) => location.hash }));
  useEffect(() => {
    document.getElementById(target)?.scrollIntoView({ block: "center" });
  }, [target]);
  const failed = report.cases.filter((one) => one.failure).length;
  return (
    <>
      <title>Policy · Regnant</title>
      <header className="mb-4 border-b border-ink pb-3">
        <h1 className="font-serif text-2xl">Policy · edition {edition.number}</h1>
        <p className="text-soft">
          Active since {day(edition.created_at)}, {clock(edition.created_at)}, by {edition.created_by}
          {edition.note && `: ${edition.note}`} · {count(report.diagnostics.length, "warning")} ·{" "}
          {count(report.cases.length, "case")}, {failed === 0 ? "all passed" : `${failed} failed`} ·{" "}
          <Link to="/policy/editions" className="text-deep underline">
            all editions
          </Link>
        </p>
      </header>
      <Findings findings={report.diagnostics} />
      <div className="grid grid-cols-[1fr_14rem] gap-8">
        <div className="min-w-0">
          {files.map(({ path, source, items }) => (
            <section key={path} aria-label={path} className="mb-8">
              {files.length > 1 && <h2 className="mb-2 font-serif text-lg">{path}</h2>}
              <Text source={source} items={items} target={target} />
            </section>
          ))}
        </div>
        <Outline items={files.flatMap((file) => file.items)} />
      </div>
    </>
  );
}

/** What the check found, each with what its code means. */
function Findings({ findings }: { findings: Active["report"]["diagnostics"] }) {
  const codes = useQuery({
    queryKey: ["codes"],
    queryFn: async () => dataOf(await api.GET("/api/v1/policy/codes")),
    enabled: findings.length > 0,
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (findings.length === 0) return null;
  return (
    <details className="mb-6">
      <summary className="cursor-pointer text-deep">What the check found</summary>
      <ul className="mt-2">
        {findings.map((found) => (
          <li key={`${found.file} ${found.line} ${found.column} ${found.code}`} className="border-b border-line py-2">
            <p>
              <span className="font-semibold">{found.code}</span> {found.message}{" "}
              <span className="text-soft">
                ({found.file}, line {found.line})
              </span>
            </p>
            <p className="text-soft">{codes.data?.codes.find((help) => help.code === found.code)?.text}</p>
          </li>
        ))}
      </ul>
    </details>
  );
}

function Text({ source, items, target }: { source: string; items: Item[]; target: string }) {
  const anchors = new Map(items.map((item) => [item.line, anchor(item)]));
  return (
    <pre className="whitespace-pre-wrap font-mono text-[13px] leading-6">
      {source.split("\n").map((line, index) => {
        const id = anchors.get(index + 1);
        return (
          <div
            key={index}
            id={id}
            data-target={id !== undefined && id === target ? "" : undefined}
            className="grid grid-cols-[3rem_1fr] data-target:bg-tint"
          >
            <span aria-hidden className="pr-4 text-right text-soft select-none">
              {index + 1}
            </span>
            <code>
              {pieces(line).map((piece, at) => (
                <span key={at} className={TINTS[piece.kind]}>
                  {piece.text}
                </span>
              ))}
            </code>
          </div>
        );
      })}
    </pre>
  );
}

function Outline({ items }: { items: Item[] }) {
  return (
    <nav
      aria-label="What the policy declares"
      className="sticky top-6 max-h-[calc(100vh-3rem)] self-start overflow-y-auto text-sm"
    >
      <ul>
        {items.map((item) => (
          <li key={anchor(item)} className={item.kind === "rule" ? "pl-3" : ""}>
            <Link to="/policy" hash={anchor(item)} className="block truncate py-0.5">
              {item.kind !== "rule" && <span className="text-soft">{item.kind} </span>}
              {item.name}
            </Link>
          </li>
        ))}
      </ul>
    </nav>
  );
}

function count(number: number, what: string): string {
  return `${number} ${what}${number === 1 ? "" : "s"}`;
}
