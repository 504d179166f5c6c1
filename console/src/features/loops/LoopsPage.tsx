import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, dataOf, type LoopLine, type LoopSheet } from "../../api/client";
import { loopQuery, loopsQuery } from "../../api/queries";
import { Badge } from "../../components/Badge";
import { Confirm } from "../../components/Confirm";
import { Button, Choice, Field } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Page, Panel } from "../../components/Page";
import { useLive, useReadings } from "../../live/live";
import { count, date, exact } from "../../text/format";
import { Quality } from "../points/Quality";
import { useMay } from "../session/may";

/** Does each point say what its device shows? Gone through beside the device, and handed over as a sheet. */
export function LoopsPage() {
  const [search, setSearch] = useSearchParams();
  const { status } = useLive();
  const gateways = status?.gateways ?? [];
  const gateway = search.get("gateway") ?? gateways[0]?.name ?? "";
  const id = Number(search.get("check") ?? 0);
  if (!status) {
    return (
      <Page title="Loop checks">
        <Loading what="gateways" />
      </Page>
    );
  }
  return (
    <Page
      title="Loop checks"
      beside={
        id > 0 ? (
          <Button quiet className="ml-auto" onClick={() => setSearch({ gateway })}>
            All loop checks
          </Button>
        ) : gateways.length > 1 ? (
          <select aria-label="Gateway" value={gateway} onChange={(event) => setSearch({ gateway: event.target.value })} className="h-9 max-md:h-11 rounded-md border border-line-strong bg-raised px-2">
            {gateways.map((known) => (
              <option key={known.name}>{known.name}</option>
            ))}
          </select>
        ) : null
      }
    >
      {id > 0 ? <Sheet key={id} gateway={gateway} id={id} /> : <Checks gateway={gateway} onOpen={(to) => setSearch({ gateway, check: String(to) })} />}
    </Page>
  );
}

function Checks({ gateway, onOpen }: { gateway: string; onOpen: (id: number) => void }) {
  const checks = useQuery(loopsQuery(gateway));
  return (
    <div className="grid max-w-4xl gap-6">
      <Begin gateway={gateway} onBegun={onOpen} />
      {checks.isPending ? <Loading what="loop checks" /> : null}
      {checks.isError ? <Notice tone="alarm" title={checks.error.message} /> : null}
      {checks.data?.length === 0 ? <Notice title="No loop check was begun">Choose devices above, and go through their points beside what they show.</Notice> : null}
      <ul aria-label="Loop checks" className="grid gap-2">
        {checks.data?.map((check) => (
          <li key={check.id}>
            <button type="button" onClick={() => onOpen(check.id)} className="grid w-full gap-1 rounded-md border border-line bg-surface p-3 text-left hover:bg-select">
              <span className="flex flex-wrap items-baseline gap-x-3">
                <span className="font-semibold">{check.title}</span>
                <span className="text-sm text-soft">{check.closed_at == null ? `${check.open} of ${check.points} to go` : "closed"}</span>
                {check.differ > 0 ? <Badge tone="alarm">{check.differ} differ</Badge> : null}
              </span>
              <span className="text-sm text-soft">
                No. {check.id}, revision {check.revision}, begun by {check.started_by} {date(check.started_at)}
              </span>
            </button>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Begin({ gateway, onBegun }: { gateway: string; onBegun: (id: number) => void }) {
  const [search] = useSearchParams();
  const { status } = useLive();
  const may = useMay("operator");
  const queries = useQueryClient();
  const devices = (status?.gateways.find((known) => known.name === gateway)?.links ?? []).flatMap((link) => link.devices);
  const [chosen, setChosen] = useState(search.get("device") ?? "");
  const [title, setTitle] = useState("");
  const begin = useMutation({
    mutationFn: () =>
      dataOf(
        api.POST("/api/v1/gateways/{gateway}/loop-checks", {
          params: { path: { gateway } },
          body: { title, devices: chosen === "" ? devices.map((device) => device.name) : [chosen] },
        }),
      ),
    onSuccess: (check) => onBegun(check.id),
    onSettled: () => queries.invalidateQueries({ queryKey: loopsQuery(gateway).queryKey }),
  });
  if (!may) return null;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    begin.mutate();
  };
  return (
    <Panel title="Begin one">
      <form onSubmit={submit} className="grid items-end gap-3 sm:grid-cols-[1fr_1fr_auto]">
        <Choice label="Points of" value={chosen} onChange={(event) => setChosen(event.target.value)}>
          <option value="">All devices</option>
          {devices.map((device) => (
            <option key={device.name} value={device.name}>
              {device.name} ({device.points})
            </option>
          ))}
        </Choice>
        <Field label="Called" value={title} placeholder={chosen || "all devices"} onChange={(event) => setTitle(event.target.value)} />
        <Button type="submit" disabled={begin.isPending || devices.length === 0}>
          Begin
        </Button>
      </form>
      {begin.isError ? <Notice tone="alarm" title={begin.error.message} /> : null}
    </Panel>
  );
}

const keyOf = (line: LoopLine) => `${line.device}/${line.point}`;

/** A loop check that is gone through: one point after the other, whoever else does the same. */
function Sheet({ gateway, id }: { gateway: string; id: number }) {
  const query = loopQuery(gateway, id);
  const sheet = useQuery({ ...query, refetchInterval: 3000 });
  const queries = useQueryClient();
  const may = useMay("operator");
  const [at, setAt] = useState<string | null>(null);
  const close = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/gateways/{gateway}/loop-checks/{id}/close", { params: { path: { gateway, id } } })),
    onSuccess: (closed) => queries.setQueryData(query.queryKey, closed),
  });
  if (sheet.isPending) return <Loading what="the sheet" />;
  if (!sheet.data) return <Notice tone="alarm" title={sheet.error?.message ?? "It is not there"} />;
  const { lines, closed_at: closedAt, ...check } = sheet.data;
  const isOpen = closedAt == null;
  const current = lines.find((line) => keyOf(line) === at) ?? lines.find((line) => line.result == null);
  const place = current ? lines.indexOf(current) : -1;
  const onward = (from: LoopSheet) => {
    const rest = [...from.lines.slice(place + 1), ...from.lines.slice(0, place)];
    const next = rest.find((line) => line.result == null);
    setAt(next ? keyOf(next) : null);
  };
  const took = (line: LoopLine) => {
    const after = { ...sheet.data, lines: lines.map((known) => (keyOf(known) === keyOf(line) ? line : known)) };
    queries.setQueryData(query.queryKey, after);
    onward(after);
    void queries.invalidateQueries({ queryKey: query.queryKey });
  };
  const file = `/api/v1/gateways/${encodeURIComponent(gateway)}/loop-checks/${id}`;
  const done = check.points - check.open;
  return (
    <div className="grid max-w-5xl gap-4">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <div>
          <h2 className="text-lg font-semibold">{check.title}</h2>
          <p className="text-sm text-soft">
            No. {id}, revision {check.revision}, begun by {check.started_by} {date(check.started_at)}
            {isOpen ? "" : `, closed by ${check.closed_by} ${date(closedAt)}`}
          </p>
        </div>
        <p role="status" className="text-sm">
          {done} of {count(check.points, "point")}: {check.agree} agree, {check.differ} differ, {check.skipped} skipped
        </p>
        <div className="ml-auto flex flex-wrap gap-2 text-sm">
          <a className={FILE} href={`${file}/sheet/html`} target="_blank" rel="noreferrer">
            Print
          </a>
          <a className={FILE} href={`${file}/sheet/csv`} download>
            CSV
          </a>
          <a className={FILE} href={file} download={`loop-check-${id}.json`}>
            JSON
          </a>
          {may && isOpen ? (
            <Confirm title="Close this loop check?" action="Close it" onConfirm={() => close.mutate()} trigger={<Button quiet>Close it</Button>}>
              {check.open > 0 ? `${count(check.open, "point")} not checked yet: the sheet says so.` : "All points were looked at."} Nothing of it changes any more.
            </Confirm>
          ) : null}
        </div>
      </div>
      {close.isError ? <Notice tone="alarm" title={close.error.message} /> : null}
      {may && isOpen && current ? (
        <Step
          key={keyOf(current)}
          gateway={gateway}
          id={id}
          line={current}
          place={`${place + 1} of ${lines.length}`}
          onTook={took}
          onGo={(by) => {
            const to = lines[(place + by + lines.length) % lines.length];
            if (to) setAt(keyOf(to));
          }}
        />
      ) : null}
      {isOpen && !current ? <Notice title="All points were looked at">Print the sheet, or close the loop check: then nothing of it changes any more.</Notice> : null}
      <Lines lines={lines} at={current ? keyOf(current) : null} onGo={may && isOpen ? setAt : undefined} />
    </div>
  );
}

const FILE = "inline-flex min-h-9 items-center rounded-md border border-line-strong px-3 hover:bg-select max-md:min-h-11";
const TAP = "min-h-11 flex-1 sm:flex-none";

interface StepProps {
  gateway: string;
  id: number;
  line: LoopLine;
  place: string;
  onTook: (line: LoopLine) => void;
  onGo: (by: number) => void;
}

/** One point: what the gateway says of it now, beside what its device shows. */
function Step({ gateway, id, line, place, onTook, onGo }: StepProps) {
  const [expected, setExpected] = useState(line.expected);
  const [note, setNote] = useState(line.note);
  const first = useRef<HTMLInputElement>(null);
  useEffect(() => first.current?.focus(), []);
  const point = `${gateway}/${line.device}/${line.point}`;
  const reading = useReadings([point]).get(point);
  const send = useMutation({
    mutationFn: (result: "agrees" | "differs" | "skipped" | null) =>
      dataOf(
        api.PUT("/api/v1/gateways/{gateway}/loop-checks/{id}/findings", {
          params: { path: { gateway, id } },
          body: { device: line.device, point: line.point, result, expected, note },
        }),
      ),
    onSuccess: onTook,
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    send.mutate(expected.trim() === "" ? "agrees" : null);
  };
  return (
    <form aria-label={`${line.device} ${line.point}`} onSubmit={submit} className="grid gap-3 rounded-lg border border-line-strong bg-raised p-4">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <p className="text-soft">
          {line.device} <span className="font-mono text-xs">{line.address}</span>
        </p>
        <p className="text-sm text-soft">{place}</p>
      </div>
      <div className="grid gap-x-8 gap-y-2 sm:grid-cols-[minmax(0,1fr)_auto]">
        <div className="min-w-0">
          <p className="text-lg font-semibold break-words">{line.title || line.point}</p>
          <p className="text-sm text-soft">{line.point}</p>
        </div>
        <div className="sm:text-right">
          <p className="text-2xl font-semibold tabular-nums">
            {exact(reading?.value, line.type)} <span className="text-base font-normal text-soft">{line.unit}</span>
          </p>
          <p className="text-sm">{reading ? <Quality reading={reading} /> : <span className="text-soft">does not run</span>}</p>
        </div>
      </div>
      <div className="grid gap-3 sm:grid-cols-2">
        <label className="grid gap-1 font-medium">
          Its display shows
          <input ref={first} value={expected} inputMode="text" onChange={(event) => setExpected(event.target.value)} className="h-11 rounded-md border border-line-strong bg-ground px-3 font-normal" />
        </label>
        <label className="grid gap-1 font-medium">
          Note
          <input value={note} onChange={(event) => setNote(event.target.value)} className="h-11 rounded-md border border-line-strong bg-ground px-3 font-normal" />
        </label>
      </div>
      {send.isError ? <Notice tone="alarm" title={send.error.message} /> : null}
      <div className="flex flex-wrap gap-2">
        <Button type="submit" className={TAP} disabled={send.isPending}>
          {expected.trim() === "" ? "Agrees" : "Compare, and go on"}
        </Button>
        <Button quiet className={TAP} disabled={send.isPending} onClick={() => send.mutate("differs")}>
          Differs
        </Button>
        <Button quiet className={TAP} disabled={send.isPending} onClick={() => send.mutate("skipped")}>
          Skip
        </Button>
        <span className="flex flex-1 justify-end gap-2">
          <Button quiet className="min-h-11" onClick={() => onGo(-1)}>
            Back
          </Button>
          <Button quiet className="min-h-11" onClick={() => onGo(1)}>
            Next
          </Button>
        </span>
      </div>
    </form>
  );
}

const TONES: Record<string, "plain" | "warn" | "alarm"> = { agrees: "plain", differs: "alarm", skipped: "warn" };

function Lines({ lines, at, onGo }: { lines: LoopLine[]; at: string | null; onGo: ((key: string) => void) | undefined }) {
  return (
    <ul aria-label="Points of the loop check" className="divide-y divide-line border-y border-line text-sm">
      {lines.map((line) => (
        <li key={keyOf(line)}>
          <button
            type="button"
            disabled={!onGo}
            aria-current={keyOf(line) === at ? "step" : undefined}
            onClick={() => onGo?.(keyOf(line))}
            className="grid min-h-9 w-full grid-cols-[minmax(0,1fr)_auto] items-center gap-x-4 px-2 py-1 text-left enabled:hover:bg-select aria-[current]:bg-select max-md:min-h-11 md:grid-cols-[minmax(0,1.2fr)_7rem_minmax(0,1fr)_minmax(0,1fr)_7rem]"
          >
            <span className="min-w-0 truncate">
              <span className="text-soft">{line.device}</span> <span className="font-medium">{line.point}</span>
            </span>
            <span>{line.result ? <Badge tone={TONES[line.result] ?? "plain"}>{line.result}</Badge> : <span className="text-faint">not checked</span>}</span>
            <span className="truncate tabular-nums max-md:hidden">{line.result ? `${line.said} ${line.unit}${line.expected ? `, display ${line.expected}` : ""}` : ""}</span>
            <span className="truncate text-soft max-md:hidden">{line.note}</span>
            <span className="truncate text-right text-soft max-md:hidden">{line.person}</span>
          </button>
        </li>
      ))}
    </ul>
  );
}

/** The way from a device to a loop check of its points. */
export function LoopCheckLink({ gateway, device }: { gateway: string; device: string }) {
  return (
    <Link to={`/loop-checks?${new URLSearchParams({ gateway, device }).toString()}`} className="inline-flex items-center text-sm text-act underline max-md:min-h-11">
      Loop check
    </Link>
  );
}
