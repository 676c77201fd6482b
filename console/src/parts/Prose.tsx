/** A sentence in which `names` and *words* of others stand out. */
export function Prose({ text }: { text: string }) {
  return text.split(/(`[^`]+`|\*[^*\s][^*]*\*)/).map((part, index) => {
    if (part.startsWith("`"))
      return (
        <code key={index} className="rounded-sm bg-paper font-sans text-[0.92em]">
          {part.slice(1, -1)}
        </code>
      );
    if (part.startsWith("*") && part.length > 2) return <em key={index}>{part.slice(1, -1)}</em>;
    return part;
  });
}
