import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { type KeyboardEvent, useEffect, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import { gatewaysQuery, windowQuery } from "../../api/queries";
import { useLive } from "../../live/live";
import { useMay } from "../session/may";
import { MOST, type Place, placesOf, select } from "./places";

/** Keys that lead to a page after `g`. */
export const KEYS: Record<string, { to: string; label: string }> = {
  o: { to: "/", label: "Overview" },
  p: { to: "/points", label: "Points" },
  g: { to: "/gateways", label: "Gateways" },
  l: { to: "/links", label: "Links" },
  d: { to: "/devices", label: "Devices" },
  c: { to: "/changes", label: "Changes" },
  r: { to: "/revisions", label: "Revisions" },
  a: { to: "/audit", label: "Audit" },
};

const isTyping = (target: EventTarget | null) =>
  target instanceof HTMLInputElement || target instanceof HTMLSelectElement || target instanceof HTMLTextAreaElement;

/** Goes anywhere by typing its name: Ctrl-K. And the keys that lead to pages. */
export function Palette() {
  const [isOpen, setOpen] = useState(false);
  const [isHelp, setHelp] = useState(false);
  const navigate = useNavigate();
  useEffect(() => {
    let isGoing = false;
    const onKey = (event: globalThis.KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
        event.preventDefault();
        setOpen(true);
        return;
      }
      if (isTyping(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      const page = isGoing ? KEYS[event.key] : undefined;
      isGoing = event.key === "g" && !isGoing;
      if (page) void navigate(page.to);
      if (event.key === "?") setHelp(true);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [navigate]);
  return (
    <>
      <Dialog.Root open={isOpen} onOpenChange={setOpen}>
        <Dialog.Portal>
          <Dialog.Overlay className="fixed inset-0 z-30 bg-black/40" />
          <Dialog.Content
            aria-describedby={undefined}
            className="fixed top-[12vh] left-1/2 z-30 w-[min(36rem,94vw)] -translate-x-1/2 overflow-hidden rounded-lg border border-line-strong bg-raised"
          >
            <Dialog.Title className="sr-only">Go to</Dialog.Title>
            <Finder onDone={() => setOpen(false)} />
          </Dialog.Content>
        </Dialog.Portal>
      </Dialog.Root>
      <Dialog.Root open={isHelp} onOpenChange={setHelp}>
        <Dialog.Portal>
          <Dialog.Overlay className="fixed inset-0 z-30 bg-black/40" />
          <Dialog.Content
            aria-describedby={undefined}
            className="fixed top-[12vh] left-1/2 z-30 w-[min(26rem,94vw)] -translate-x-1/2 rounded-lg border border-line-strong bg-raised p-5"
          >
            <Dialog.Title className="mb-3 text-lg font-semibold">Keys</Dialog.Title>
            <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
              <Shortcut keys="Ctrl K" what="go anywhere by its name" />
              <Shortcut keys="/" what="filter the list on the page" />
              {Object.entries(KEYS).map(([key, { label }]) => (
                <Shortcut key={key} keys={`g ${key}`} what={label} />
              ))}
              <Shortcut keys="?" what="this list" />
            </dl>
          </Dialog.Content>
        </Dialog.Portal>
      </Dialog.Root>
    </>
  );
}

function Shortcut({ keys, what }: { keys: string; what: string }) {
  return (
    <>
      <dt className="font-mono text-xs leading-6 text-soft">{keys}</dt>
      <dd>{what}</dd>
    </>
  );
}

function Finder({ onDone }: { onDone: () => void }) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const { status } = useLive();
  const gateways = useQuery(gatewaysQuery);
  const q = text.trim();
  const points = useQuery({ ...windowQuery({ q, limit: MOST }), enabled: q !== "", placeholderData: (before) => before });
  const mayEdit = useMay("engineer");
  const navigate = useNavigate();
  const all = useMemo(
    () => placesOf(status?.gateways ?? [], gateways.data ?? [], points.data?.rows ?? [], mayEdit),
    [status, gateways.data, points.data, mayEdit],
  );
  const found = useMemo(() => select(all, text), [all, text]);
  const chosen = Math.min(at, Math.max(found.length - 1, 0));
  const go = (place: Place | undefined) => {
    if (!place) return;
    onDone();
    void navigate(place.to);
  };
  const onKey = (event: KeyboardEvent) => {
    const steps: Record<string, number> = { ArrowDown: 1, ArrowUp: -1 };
    const step = steps[event.key];
    if (step !== undefined) {
      event.preventDefault();
      setAt(Math.min(Math.max(chosen + step, 0), found.length - 1));
    } else if (event.key === "Enter") go(found[chosen]);
  };
  return (
    <div onKeyDown={onKey}>
      <input
        autoFocus
        type="search"
        role="combobox"
        aria-label="Go to"
        aria-expanded
        aria-controls="places"
        aria-activedescendant={found[chosen] ? `place-${chosen}` : undefined}
        placeholder="A page, device, link or point"
        value={text}
        onChange={(event) => {
          setText(event.target.value);
          setAt(0);
        }}
        className="h-12 w-full border-b border-line bg-raised px-4 outline-none"
      />
      <ul id="places" role="listbox" aria-label="Places" className="max-h-[50vh] overflow-auto py-1">
        {found.map((place, position) => (
          <li
            key={place.to + place.label}
            id={`place-${position}`}
            role="option"
            aria-selected={position === chosen}
            onClick={() => go(place)}
            className="flex cursor-pointer items-baseline gap-3 px-4 py-1.5 hover:bg-select aria-selected:bg-select"
          >
            <span className="w-16 shrink-0 text-xs text-faint">{place.what}</span>
            <span className="font-medium">{place.label}</span>
            <span className="truncate text-sm text-soft">{place.more}</span>
          </li>
        ))}
        {found.length === 0 ? <li className="px-4 py-3 text-soft">Nothing of that name.</li> : null}
      </ul>
    </div>
  );
}
