const MARKS: Record<string, { shape: string; tint: string }> = {
  granted: { shape: "M8 3a5 5 0 1 0 0 10a5 5 0 1 0 0-10z", tint: "fill-deep stroke-deep" },
  observed: { shape: "M8 3a5 5 0 1 0 0 10a5 5 0 1 0 0-10zM4.5 11.5l7-7", tint: "stroke-ochre" },
  passed: { shape: "M8 3a5 5 0 1 0 0 10a5 5 0 1 0 0-10z", tint: "fill-deep stroke-deep" },
  refused: { shape: "M3.5 3.5l9 9M12.5 3.5l-9 9", tint: "stroke-rust" },
  stopped: { shape: "M3.5 3.5l9 9M12.5 3.5l-9 9", tint: "stroke-rust" },
  silence: { shape: "M3 8h10", tint: "stroke-soft" },
  unfinished: { shape: "M3 8h4M9.5 8h.1M12.5 8h.1", tint: "stroke-ochre" },
  told: { shape: "M3 8h9M9 4.5L12.5 8 9 11.5", tint: "stroke-deep" },
  accounting: { shape: "M3 4.5h10M3 8h10M3 11.5h6", tint: "stroke-soft" },
  unheard: { shape: "M5 6a3 3 0 1 1 3.6 3q-.6.2-.6 1.4M8 13v.4", tint: "stroke-ochre" },
  unreadable: { shape: "M4 4h8v8H4zM4 12l8-8", tint: "stroke-ochre" },
  skipped: { shape: "M8 4a4 4 0 1 0 0 8a4 4 0 1 0 0-8z", tint: "stroke-soft" },
};

/** What came of something, by shape as well as by tint. */
export function Mark({ of }: { of: string }) {
  const mark = MARKS[of];
  return (
    <svg viewBox="0 0 16 16" role="img" aria-label={of} className="inline-block size-4 shrink-0">
      <path d={mark?.shape ?? ""} className={mark?.tint ?? ""} fill="none" strokeWidth="2" strokeLinecap="round" />
    </svg>
  );
}
