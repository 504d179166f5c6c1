import { useEffect, useRef, useState } from "react";
import type { Content, ScanEvent } from "../../api/client";
import { Button, CONTROL } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { count } from "../../text/format";
import { scan, type ScanRequest } from "./scan";

interface ScanPanelProps {
  gateway: string;
  link: Content;
  /** The unit whose addresses are looked for; units are looked for without it. */
  unit?: number;
}

type Run = { kind: "idle" } | { kind: "running"; done: number; total: number } | { kind: "over"; said: string } | { kind: "failed"; why: string };

const TABLES = ["holding", "input", "coil", "discrete"];

/** Who is there? Which units answer on a link, or which addresses a unit has; the polls go on meanwhile. */
export function ScanPanel({ gateway, link, unit }: ScanPanelProps) {
  const isUnits = unit === undefined;
  const [table, setTable] = useState("holding");
  const [first, setFirst] = useState(isUnits ? "1" : "0");
  const [last, setLast] = useState(isUnits ? "32" : "199");
  const [run, setRun] = useState<Run>({ kind: "idle" });
  const [found, setFound] = useState<string[]>([]);
  const stop = useRef<AbortController | null>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const take = (event: ScanEvent) => {
    switch (event.kind) {
      case "progress":
        return setRun({ kind: "running", done: event.done, total: event.total });
      case "unit":
        return setFound((known) => [...known, `unit ${event.unit}: ${event.said}`]);
      case "range":
        return setFound((known) => [...known, `${table}:${event.first} to ${event.last}, ${event.last - event.first + 1} there`]);
      case "done":
        return setRun({ kind: "over", said: `Done, with ${count(event.requests, "request")}.` });
      case "failed":
        return setRun({ kind: "failed", why: event.why });
    }
  };
  const start = async () => {
    const own = new AbortController();
    stop.current = own;
    setFound([]);
    setRun({ kind: "running", done: 0, total: 1 });
    const body: ScanRequest = { link, first: Number(first), last: Number(last), ...(isUnits ? {} : { unit, table }) };
    try {
      await scan(gateway, body, own.signal, take);
    } catch (error) {
      const why = error instanceof Error ? error.message : String(error);
      setRun(own.signal.aborted ? { kind: "over", said: "Ended before its end." } : { kind: "failed", why });
    }
  };
  const isRunning = run.kind === "running";
  return (
    <section aria-label={isUnits ? "Look for units" : "Look for addresses"} className="grid gap-3">
      <div className="flex flex-wrap items-end gap-2">
        {isUnits ? null : (
          <label className="grid gap-1 text-sm text-soft">
            Table
            <select value={table} onChange={(event) => setTable(event.target.value)} disabled={isRunning} className={`${CONTROL} w-32`}>
              {TABLES.map((word) => (
                <option key={word}>{word}</option>
              ))}
            </select>
          </label>
        )}
        <label className="grid gap-1 text-sm text-soft">
          {isUnits ? "From unit" : "From address"}
          <input inputMode="numeric" value={first} onChange={(event) => setFirst(event.target.value)} disabled={isRunning} className={`${CONTROL} w-24`} />
        </label>
        <label className="grid gap-1 text-sm text-soft">
          to
          <input inputMode="numeric" value={last} onChange={(event) => setLast(event.target.value)} disabled={isRunning} className={`${CONTROL} w-24`} />
        </label>
        {isRunning ? (
          <Button quiet onClick={() => stop.current?.abort()}>
            End it
          </Button>
        ) : (
          <Button quiet onClick={() => void start()}>
            {isUnits ? "Look who answers" : "Look what is there"}
          </Button>
        )}
      </div>
      {isRunning ? (
        <div role="progressbar" aria-label="Scan" aria-valuenow={run.done} aria-valuemax={run.total} className="h-2 w-full rounded-xs bg-select">
          <div className="h-full rounded-xs bg-act" style={{ width: `${(run.done / run.total) * 100}%` }} />
        </div>
      ) : null}
      {run.kind === "failed" ? <Notice tone="alarm" title={run.why} /> : null}
      <ul aria-label="Found" aria-live="polite" className="grid gap-1 font-mono text-xs leading-5">
        {found.map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
      {run.kind === "over" ? <p className="text-sm text-soft">{run.said}{found.length === 0 ? " Nothing was found." : ""}</p> : null}
    </section>
  );
}
