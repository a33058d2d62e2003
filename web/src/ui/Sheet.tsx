import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

/** A dialog over the work; Escape closes it. */
export function Sheet(props: {
  title: string;
  onClose: () => void;
  children: ReactNode;
  wide?: boolean;
  note?: string;
}) {
  return (
    <Dialog.Root open onOpenChange={(open) => !open && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ground/70" />
        <Dialog.Content
          aria-describedby={undefined}
          className={`fixed top-[12%] left-1/2 z-50 flex max-h-[76%] -translate-x-1/2 flex-col rounded-lg border border-line bg-panel text-ink shadow-2xl ${props.wide ? "w-[720px]" : "w-[480px]"}`}
        >
          <div className="flex items-baseline justify-between border-b border-line px-4 py-2.5">
            <Dialog.Title className="text-[15px] font-semibold text-bright">{props.title}</Dialog.Title>
            <Dialog.Close className="rounded px-2 text-dim hover:text-bright">Close</Dialog.Close>
          </div>
          <div className="overflow-auto px-4 py-3">{props.children}</div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
