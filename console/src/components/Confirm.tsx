import { AlertDialog } from "radix-ui";
import type { ReactNode } from "react";
import { Button } from "./Form";

interface QuestionProps {
  title: string;
  /** What the button does that carries it out. */
  action: string;
  /** Whether it may be carried out yet. */
  isReady?: boolean;
  onConfirm: () => void;
  children: ReactNode;
}

interface ConfirmProps extends QuestionProps {
  trigger: ReactNode;
}

/** Asks before something that cannot be undone by itself. */
export function Confirm({ trigger, ...question }: ConfirmProps) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>{trigger}</AlertDialog.Trigger>
      <Question {...question} />
    </AlertDialog.Root>
  );
}

/** A question that is there as long as nobody has answered it. */
export function Asked({ onLeave, ...question }: QuestionProps & { onLeave: () => void }) {
  return (
    <AlertDialog.Root open onOpenChange={(isOpen) => (isOpen ? undefined : onLeave())}>
      <Question {...question} />
    </AlertDialog.Root>
  );
}

function Question({ title, action, isReady = true, onConfirm, children }: QuestionProps) {
  return (
    <AlertDialog.Portal>
      <AlertDialog.Overlay className="fixed inset-0 z-30 bg-black/40" />
      <AlertDialog.Content className="fixed top-1/4 left-1/2 z-30 w-[min(26rem,92vw)] -translate-x-1/2 rounded-lg border border-line-strong bg-raised p-5">
        <AlertDialog.Title className="text-lg font-semibold">{title}</AlertDialog.Title>
        <AlertDialog.Description asChild>
          <div className="mt-2 mb-4 text-soft">{children}</div>
        </AlertDialog.Description>
        <div className="flex justify-end gap-2">
          <AlertDialog.Cancel asChild>
            <Button quiet>Leave it</Button>
          </AlertDialog.Cancel>
          <AlertDialog.Action asChild>
            <Button disabled={!isReady} onClick={onConfirm}>
              {action}
            </Button>
          </AlertDialog.Action>
        </div>
      </AlertDialog.Content>
    </AlertDialog.Portal>
  );
}
