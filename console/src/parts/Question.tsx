import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

/** Something that is asked before it is done, over the page; Escape leaves it. */
export function Question({ title, close, children }: { title: string; close: () => void; children: ReactNode }) {
  return (
    <Dialog.Root open onOpenChange={(open) => !open && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-ink/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/4 left-1/2 z-40 w-[32rem] -translate-x-1/2 rounded-sm bg-paper p-6"
        >
          <Dialog.Title className="mb-3 font-serif text-xl">{title}</Dialog.Title>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
