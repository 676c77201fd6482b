import { type RefObject, useEffect } from "react";

/** Forms in which something was typed that the service does not have. */
export const unsaved = new Set<HTMLFormElement>();

/** Watches the form around an element: what is typed is unsaved until it is sent, and again where that was refused. */
export function useUnsaved(within: RefObject<HTMLElement | null>, error: Error | null) {
  useEffect(() => {
    const end = within.current;
    const form = end?.closest("form");
    if (!end || !form) return;
    const typed = () => unsaved.add(form);
    const sent = () => unsaved.delete(form);
    // Whoever cancels means it.
    const left = (event: Event) => {
      if (event.target instanceof Element && event.target.closest("a")) unsaved.delete(form);
    };
    form.addEventListener("input", typed);
    form.addEventListener("submit", sent);
    end.addEventListener("click", left, true);
    return () => {
      form.removeEventListener("input", typed);
      form.removeEventListener("submit", sent);
      end.removeEventListener("click", left, true);
      unsaved.delete(form);
    };
  }, [within]);
  useEffect(() => {
    const form = within.current?.closest("form");
    if (error && form) unsaved.add(form);
  }, [within, error]);
}
