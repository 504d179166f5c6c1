import { type KeyboardEvent, useEffect } from "react";

/** Whoever closes what was opened is where they were before. */
export function useReturnFocus(): void {
  useEffect(() => {
    const before = document.activeElement;
    return () => {
      if (before instanceof HTMLElement && before.isConnected && before !== document.body) before.focus();
    };
  }, []);
}

/** From a filter, the arrow down leads into the list below it. */
export function intoGrid(event: KeyboardEvent): void {
  if (event.key !== "ArrowDown") return;
  event.preventDefault();
  document.querySelector<HTMLElement>("[role=grid]")?.focus();
}

/** The first thing to be filled in or done there. */
export function focusFirst(within: HTMLElement | null): void {
  within?.querySelector<HTMLElement>("input:not([disabled]):not([type=file]), select:not([disabled]), textarea:not([disabled])")?.focus();
}
