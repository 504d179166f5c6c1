import { useEffect, useRef, useState } from "react";
import type { Content, DraftView, OfferEvent, OfferSource } from "../../api/client";
import { Button, Choice } from "../../components/Form";
import { OwnCertificate } from "./OwnCertificate";
import { Notice } from "../../components/Notice";
import { SchemaForm } from "../description/SchemaForm";
import { ChooseOffers, type Targets } from "./ChooseOffers";
import { after, NOTHING, type Told } from "./offers";
import { askForOffers } from "./stream";

interface OffersPanelProps {
  gateway: string;
  draft: DraftView;
  /** The ways in which it can be told. */
  sources: OfferSource[];
  /** What the first way is asked with. */
  start?: Content;
  link?: Content | undefined;
  device?: Content | undefined;
  /** Where the points can go. */
  targets: Targets;
  /** Asks at once, since it costs nothing. */
  isEager?: boolean;
  /** Somebody takes a way to what the link leads to: keys of the link. */
  onWay?: (keys: Content) => void;
}

/** What is there? A device, a link or a model tells it; what is chosen of it goes into the draft. */
export function OffersPanel({ gateway, draft, sources, start = {}, link, device, targets, isEager = false, onWay }: OffersPanelProps) {
  const [word, setWord] = useState(sources[0]?.word ?? "");
  const [filled, setFilled] = useState<Content>(start);
  const { told, ask, end } = useOffers(gateway);
  const source = sources.find((known) => known.word === word);
  const isRunning = told.state === "running";
  const look = () => ask({ source: word, with: filled, link: link ?? null, device: source?.of_device ? device : null });
  const begun = useRef(false);
  useEffect(() => {
    if (!isEager || begun.current) return;
    begun.current = true;
    look();
  });
  if (!source) return null;
  return (
    <section aria-label="What is offered" className="grid gap-3">
      {isEager ? null : (
        <>
          {sources.length > 1 ? (
            <div className="max-w-xs">
              <Choice
                label="Look for"
                value={word}
                disabled={isRunning}
                onChange={(event) => {
                  setWord(event.target.value);
                  setFilled({});
                }}
              >
                {sources.map((known) => (
                  <option key={known.word} value={known.word}>
                    {known.title}
                  </option>
                ))}
              </Choice>
            </div>
          ) : null}
          <fieldset disabled={isRunning} className="contents">
            <SchemaForm schema={source.form} content={filled} onChange={setFilled} problems={[]} names={{ link: [], rate: [] }} />
          </fieldset>
          <div className="flex items-center gap-3">
            {isRunning ? (
              <Button quiet onClick={end}>
                End it
              </Button>
            ) : (
              <Button quiet onClick={look}>
                {sources.length > 1 ? "Look now" : source.title}
              </Button>
            )}
          </div>
        </>
      )}
      {isRunning ? (
        <div role="progressbar" aria-label="Looking" aria-valuenow={told.done} aria-valuemax={told.total} className="h-2 w-full rounded-xs bg-select">
          <div className="h-full rounded-xs bg-act" style={{ width: `${(told.done / told.total) * 100}%` }} />
        </div>
      ) : null}
      {told.state === "failed" ? <Notice tone="alarm" title={told.said} /> : null}
      <Notes notes={told.notes} />
      <Ways ways={told.ways} link={link} onWay={onWay} />
      {told.ways.some((way) => "server-certificate" in way.keys) ? <OwnCertificate /> : null}
      <Found told={told} />
      {told.offers.length > 0 ? <ChooseOffers {...{ gateway, draft, targets }} offers={told.offers} {...(source.of_device ? { asked: { source: word, with: filled } } : {})} /> : null}
    </section>
  );
}

/** How what the link leads to can be reached. Taking one trusts its certificate. */
function Ways({ ways, link, onWay }: { ways: Told["ways"]; link: Content | undefined; onWay: ((keys: Content) => void) | undefined }) {
  if (ways.length === 0) return null;
  return (
    <ul aria-label="Ways to reach it" className="grid gap-2">
      {ways.map((way) => {
        const [what = "", ...rest] = way.said.split("; ");
        const isTaken = Object.entries(way.keys).every(([key, value]) => link?.[key] === value);
        return (
          <li key={String(way.keys.security)} className="grid gap-2 rounded-md border border-line p-3 text-sm">
            <div className="flex flex-wrap items-baseline justify-between gap-2">
              <span className="font-semibold">{what}</span>
              {isTaken ? (
                <span className="text-soft">This one is taken.</span>
              ) : onWay ? (
                <Button quiet onClick={() => onWay(way.keys)}>
                  {"server-certificate" in way.keys ? "Trust it and take it" : "Take it"}
                </Button>
              ) : null}
            </div>
            {rest.map((line) => (
              <p key={line} className="text-soft break-words">
                {line}
              </p>
            ))}
            {"server-certificate" in way.keys ? <p className="font-mono text-xs break-all text-soft">SHA-256 {String(way.keys["server-certificate"])}</p> : null}
          </li>
        );
      })}
    </ul>
  );
}

function Notes({ notes }: { notes: string[] }) {
  if (notes.length === 0) return null;
  return (
    <ul aria-label="What is to be known" aria-live="polite" className="grid grid-cols-1 gap-1 text-sm break-words text-soft">
      {notes.map((note) => (
        <li key={note}>{note}</li>
      ))}
    </ul>
  );
}

/** What is told beside the points. */
function Found({ told }: { told: Told }) {
  const isEmpty = told.devices.length + told.ways.length + told.notes.length + told.offers.length === 0;
  return (
    <div aria-live="polite" className="grid gap-2">
      {told.devices.length > 0 ? (
        <ul aria-label="Devices that answer" className="grid gap-1 font-mono text-xs leading-5">
          {told.devices.map((found) => {
            const keys = Object.entries(found.keys).map(([key, value]) => `${key} ${String(value)}`);
            return (
              <li key={keys.join()}>
                {keys.join(" ")}: {found.said}
              </li>
            );
          })}
        </ul>
      ) : null}
      {told.state === "over" ? (
        <p className="text-sm text-soft">
          {told.said}
          {isEmpty ? " Nothing was found." : ""}
        </p>
      ) : null}
    </div>
  );
}

/** Asks for offers, and keeps what was told. What comes is taken in some times a second, however much it is. */
function useOffers(gateway: string) {
  const [told, setTold] = useState<Told>(NOTHING);
  const stop = useRef<AbortController | null>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const ask = (body: Parameters<typeof askForOffers>[1]) => {
    stop.current?.abort();
    const own = new AbortController();
    stop.current = own;
    setTold({ ...NOTHING, state: "running" });
    let waiting: OfferEvent[] = [];
    const take = () => {
      const events = waiting;
      waiting = [];
      if (stop.current === own && events.length > 0) setTold((known) => after(known, events));
    };
    const timer = setInterval(take, 200);
    const ended = (last: Partial<Told>) => {
      clearInterval(timer);
      take();
      if (stop.current === own) setTold((known) => (known.state === "running" ? { ...known, ...last } : known));
    };
    askForOffers(gateway, body, own.signal, (event) => waiting.push(event))
      .then(() => ended({ state: "failed", said: "The answer ended before its end." }))
      .catch((error: unknown) => {
        const why = error instanceof Error ? error.message : String(error);
        ended(own.signal.aborted ? { state: "over", said: "Ended before its end." } : { state: "failed", said: why });
      });
  };
  return { told, ask, end: () => stop.current?.abort() };
}
