import { type ReactNode, useRef } from "react";
import { Refused } from "./Refused";
import { useUnsaved } from "./unsaved";

/** How a link out of a form looks. */
export const WAY_OUT = "cursor-pointer py-1 text-deep hover:underline";

/** How a form ends: why it was refused, what sends it, and the way out: what closes the form, or a link. */
export function FormEnd(props: { act: string; busy: boolean; error: Error | null; cancel?: () => void; children?: ReactNode }) {
  const end = useRef<HTMLParagraphElement>(null);
  useUnsaved(end, props.error);
  return (
    <>
      <Refused error={props.error} />
      <p ref={end} className="mt-4 flex gap-6">
        <button type="submit" disabled={props.busy} className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper">
          {props.act}
        </button>
        {props.cancel && (
          <button type="button" onClick={props.cancel} className={WAY_OUT}>
            Cancel
          </button>
        )}
        {props.children}
      </p>
    </>
  );
}
