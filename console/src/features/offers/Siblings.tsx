import { useEffect, useRef, useState } from "react";
import type { CompareRequest, Sibling } from "../../api/client";
import { Button, CONTROL } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { count } from "../../text/format";
import { shown } from "../description/schema";
import { fits } from "./offers";
import { compareOffers } from "./stream";

/** The devices whose lists they go to: ticked one by one, or all whose name fits. */
export function Into({ all, devices, setDevices }: { all: string[]; devices: string[]; setDevices: (devices: string[]) => void }) {
  const [pattern, setPattern] = useState("");
  const found = all.filter((name) => fits(pattern, name));
  return (
    <fieldset className="grid gap-2 text-sm">
      <legend className="text-soft">Into the lists of</legend>
      {all.length > 3 ? (
        <div className="flex flex-wrap items-center gap-3">
          <input
            aria-label="Devices whose name fits"
            placeholder="name, * for any text"
            value={pattern}
            onChange={(event) => setPattern(event.target.value)}
            className={`${CONTROL} w-48 text-ink`}
          />
          <Button quiet disabled={pattern.trim() === "" || found.length === 0} onClick={() => setDevices([...new Set([...devices, ...found])])}>
            {pattern.trim() === "" ? "Tick those that fit" : `Tick ${count(found.length, "device")}`}
          </Button>
        </div>
      ) : null}
      <div className="flex max-h-32 flex-wrap gap-x-4 gap-y-1 overflow-auto">
        {all.map((name) => (
          <label key={name} className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={devices.includes(name)}
              onChange={(event) => setDevices(event.target.checked ? [...devices, name] : devices.filter((other) => other !== name))}
              className="size-4 accent-(--act)"
            />
            {name}
          </label>
        ))}
      </div>
    </fieldset>
  );
}

interface SiblingsProps {
  gateway: string;
  devices: string[];
  /** What was chosen, and what was asked for it. */
  wanted: () => Omit<CompareRequest, "devices">;
}

/** Are these devices like the one that was chosen from? Each is asked, and what differs is told. */
export function Siblings({ gateway, devices, wanted }: SiblingsProps) {
  const [told, setTold] = useState<Sibling[]>([]);
  const [state, setState] = useState<"idle" | "asking" | Error>("idle");
  const stop = useRef<AbortController | null>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const ask = () => {
    const own = new AbortController();
    stop.current = own;
    setTold([]);
    setState("asking");
    compareOffers(gateway, { ...wanted(), devices }, own.signal, (sibling) => setTold((known) => [...known, sibling]))
      .then(() => setState("idle"))
      .catch((error: unknown) => setState(own.signal.aborted ? "idle" : error instanceof Error ? error : new Error(String(error))));
  };
  return (
    <section aria-label="Devices that are alike" aria-live="polite" className="grid gap-2 text-sm">
      <div className="flex flex-wrap items-center gap-3">
        {state === "asking" ? (
          <Button quiet onClick={() => stop.current?.abort()}>
            End it
          </Button>
        ) : (
          <Button quiet onClick={ask}>
            {`Ask ${devices.length === 1 ? devices[0] : count(devices.length, "device")} for the same`}
          </Button>
        )}
        <span className="text-xs text-faint">Tells what is not there, or has another type, unit, range, access or other words.</span>
      </div>
      {state instanceof Error ? <Notice tone="alarm" title={state.message} /> : null}
      {told.map((sibling) => (
        <div key={sibling.device} className="rounded-md border border-line p-2">
          <p>
            <span className="font-semibold">{sibling.device}</span>{" "}
            <span className="text-soft">{sibling.failed ?? (sibling.differences.length === 0 ? "is the same" : count(sibling.differences.length, "difference"))}</span>
          </p>
          {sibling.differences.slice(0, 50).map((one) => (
            <p key={`${one.address} ${one.column ?? ""}`} className="text-soft">
              <span className="font-mono text-xs">{one.address}</span>{" "}
              {one.column ? `${one.column} is ${shown(one.there) || "nothing"}, not ${shown(one.here) || "nothing"}` : "is not there"}
            </p>
          ))}
          {sibling.differences.length > 50 ? <p className="text-soft">and {sibling.differences.length - 50} more</p> : null}
        </div>
      ))}
    </section>
  );
}
