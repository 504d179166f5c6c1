import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useMemo, useState } from "react";
import { api, type Content, dataOf, type DraftView, type NameRule, type Offer, type OffersImport } from "../../api/client";
import { gatewayKey } from "../../api/queries";
import { Address } from "../../components/Address";
import { Badge } from "../../components/Badge";
import { Button, CONTROL } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { count, value } from "../../text/format";
import { namesOf, refresh } from "../description/edits";
import { shown } from "../description/schema";
import { Into, Siblings } from "./Siblings";
import { matching } from "./offers";

/** Where offers can go. */
export interface Targets {
  /** Devices that have what is offered; the first one is the one that was asked. */
  devices: string[];
  /** The list of a model. */
  list?: string;
}

interface ChooseOffersProps {
  gateway: string;
  draft: DraftView;
  offers: Offer[];
  targets: Targets;
  /** What was asked, so that devices that are alike can be asked the same. */
  asked?: { source: string; with: Content };
}

/** As many as one looks through; the rest is found by the filter. */
const SHOWN = 300;
const CASES: [NameRule["case"] & string, string][] = [
  ["as-is", "as they are"],
  ["lower", "in small letters"],
  ["kebab", "small-with-dashes"],
];

/** Chooses from offers, names what is chosen by a rule, and puts it into the draft: over several devices at once. */
export function ChooseOffers({ gateway, draft, offers, targets, asked: question }: ChooseOffersProps) {
  const rates = namesOf(draft).rate;
  const [text, setText] = useState("");
  // Of a model, most want all.
  const [picked, setPicked] = useState<ReadonlySet<number>>(() => new Set(targets.list ? offers.keys() : []));
  const [names, setNames] = useState<Required<NameRule>>({ parts: 0, case: "as-is", prefix: "" });
  const [rate, setRate] = useState(rates[0] ?? "normal");
  const [devices, setDevices] = useState<string[]>(targets.devices.slice(0, 1));
  const found = useMemo(() => matching(offers, text), [offers, text]);
  const chosen = useMemo(() => [...picked].sort((left, right) => left - right), [picked]);
  const asked = useDeferredValue(chosen);
  const lists = targets.list ? [targets.list] : [];
  const send = (places: number[], version: number | null) => {
    const wanted = places.map((at) => offers[at]).filter((offer) => offer !== undefined);
    const body = { devices, lists, offers: wanted, names, rate, version };
    return dataOf(api.POST("/api/v1/gateways/{gateway}/draft/offers", { params: { path: { gateway } }, body }));
  };
  const queries = useQueryClient();
  const hasTarget = devices.length + lists.length > 0;
  const preview = useQuery({
    queryKey: [...gatewayKey(gateway), "offers", offers.length, asked, names, rate, devices, targets.list, draft.version],
    queryFn: () => send(asked, null),
    enabled: asked.length > 0 && hasTarget,
    placeholderData: keepPreviousData,
    gcTime: 0,
  });
  const take = useMutation({
    mutationFn: () => send(chosen, draft.version),
    onSettled: () => refresh(queries, gateway),
    onSuccess: () => setPicked(new Set()),
  });
  const becomes = new Map(asked.map((at, place) => [at, preview.data?.names[place] ?? ""]));
  const imports = chosen.length > 0 ? (preview.data?.lists ?? []) : [];
  const mistakes = imports.flatMap((list) => list.import.problems).filter((problem) => problem.severity === "mistake").length;
  const changes = imports.reduce((sum, list) => sum + list.import.added.length + list.import.changed.length, 0);
  const areAll = found.length > 0 && found.every((at) => picked.has(at));
  const pick = (places: number[], isPicked: boolean) =>
    setPicked((known) => {
      const next = new Set(known);
      for (const at of places) isPicked ? next.add(at) : next.delete(at);
      return next;
    });
  return (
    <div className="grid gap-3">
      <div className="flex flex-wrap items-center gap-3">
        <input
          type="search"
          aria-label="Filter what is offered"
          placeholder="Filter"
          value={text}
          onChange={(event) => setText(event.target.value)}
          className="h-9 max-md:h-11 w-44 rounded-md border border-line-strong bg-raised px-3"
        />
        <p className="text-sm text-soft">
          {text === "" ? count(offers.length, "point") : `${found.length.toLocaleString("en")} of ${count(offers.length, "point")}`}
        </p>
        <Button quiet disabled={found.length === 0} onClick={() => pick(found, !areAll)}>
          {areAll ? "Choose none of them" : `Choose ${text === "" ? "all" : "these"} ${found.length.toLocaleString("en")}`}
        </Button>
      </div>
      <div className="max-h-96 overflow-auto rounded-md border border-line">
        <table className="w-full text-sm">
          <thead className="sticky top-0 bg-surface">
            <tr className="text-left text-xs text-soft">
              <th className="w-8" />
              <th className="py-1 pr-3 font-normal">Offered</th>
              <th className="pr-3 font-normal">Address</th>
              <th className="pr-3 font-normal">Type</th>
              <th className="pr-3 text-right font-normal">Raw now</th>
              <th className="pr-3 font-normal">Unit</th>
              <th className="pr-3 font-normal">Title</th>
              <th className="pr-3 font-normal">Becomes</th>
            </tr>
          </thead>
          <tbody>
            {found.slice(0, SHOWN).map((at) => {
              const offer = offers[at];
              if (!offer) return null;
              const point = offer.point as Content;
              const path = offer.path.join("/");
              return (
                <tr key={at} className="border-t border-line">
                  <td className="px-2">
                    <input
                      type="checkbox"
                      aria-label={path}
                      checked={picked.has(at)}
                      onChange={(event) => pick([at], event.target.checked)}
                      className="size-4 accent-(--act)"
                    />
                  </td>
                  <th className="py-1 pr-3 text-left font-medium">{path}</th>
                  <td className="max-w-48 pr-3">
                    <Address>{shown(point.address)}</Address>
                  </td>
                  <td className="pr-3">{shown(point.type)}</td>
                  <td title={shown(offer.value)} className="max-w-36 truncate pr-3 text-right tabular-nums">
                    {offer.value == null ? "" : value(offer.value)}
                  </td>
                  <td className="pr-3">{shown(point.unit)}</td>
                  <td className="pr-3 text-soft">
                    {shown(point.title)} <span className="text-xs text-faint">{offer.note}</span>
                  </td>
                  <td className="pr-3 font-mono text-xs">{picked.has(at) ? (becomes.get(at) ?? "") : ""}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
        {found.length > SHOWN ? <p className="p-2 text-sm text-soft">and {(found.length - SHOWN).toLocaleString("en")} more: filter for them</p> : null}
      </div>
      <div className="flex flex-wrap items-end gap-3 text-sm">
        <label className="grid gap-1 text-soft">
          Names from
          <select
            value={names.parts}
            onChange={(event) => setNames({ ...names, parts: Number(event.target.value) })}
            className={`${CONTROL} w-40 text-ink`}
          >
            <option value={0}>the whole path</option>
            <option value={1}>the last part</option>
            <option value={2}>the last two parts</option>
            <option value={3}>the last three parts</option>
          </select>
        </label>
        <label className="grid gap-1 text-soft">
          Spelled
          <select
            value={names.case}
            onChange={(event) => setNames({ ...names, case: event.target.value as typeof names.case })}
            className={`${CONTROL} w-44 text-ink`}
          >
            {CASES.map(([word, title]) => (
              <option key={word} value={word}>
                {title}
              </option>
            ))}
          </select>
        </label>
        <label className="grid gap-1 text-soft">
          Prefix
          <input value={names.prefix} placeholder="none" aria-label="Prefix of the names" onChange={(event) => setNames({ ...names, prefix: event.target.value })} className={`${CONTROL} w-32 text-ink`} />
        </label>
        <label className="grid gap-1 text-soft">
          Rate where none is offered
          <select value={rate} onChange={(event) => setRate(event.target.value)} className={`${CONTROL} w-44 text-ink`}>
            {rates.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
      </div>
      {targets.devices.length > 1 ? <Into {...{ devices, setDevices }} all={targets.devices} /> : null}
      {question && chosen.length > 0 && devices.some((name) => name !== targets.devices[0]) ? (
        <Siblings
          gateway={gateway}
          devices={devices.filter((name) => name !== targets.devices[0])}
          wanted={() => ({ ...question, offers: chosen.map((at) => offers[at]).filter((offer) => offer !== undefined) })}
        />
      ) : null}
      {preview.error ? <Notice tone="alarm" title={preview.error.message} /> : null}
      {take.error ? <Notice tone="alarm" title={take.error.message} /> : null}
      {imports.map((list) => (
        <WhatChanges key={list.list} of={list} />
      ))}
      <div className="flex flex-wrap items-center gap-3">
        <Button disabled={take.isPending || changes === 0 || mistakes > 0 || !hasTarget} onClick={() => take.mutate()}>
          {take.isPending ? "Saving …" : "Put them into the draft"}
        </Button>
        <p role="status" className="text-sm text-soft">
          {chosen.length === 0 ? (take.isSuccess ? "They are in the draft." : "Choose points first.") : `${count(chosen.length, "point")} chosen`}
          {mistakes > 0 ? `; ${count(mistakes, "mistake")} first` : ""}
        </p>
      </div>
    </div>
  );
}

/** What taking them over does to one list, and what is wrong with it then. */
function WhatChanges({ of }: { of: OffersImport }) {
  const { added, changed, same, problems } = of.import;
  return (
    <div className="grid gap-1 rounded-md border border-line p-2 text-sm">
      <p>
        <span className="font-mono text-xs">{of.list}</span>
        <span className="text-soft">
          {of.devices.length > 1 ? `, of ${of.devices.join(", ")}` : ""}: {added.length} new{changed.length > 0 ? `, ${changed.length} that are there already change` : ""}, {same} stay
        </span>
      </p>
      {changed.slice(0, 12).map((change) => (
        <p key={change.name} className="text-soft">
          <Badge tone="warn">there already</Badge> {change.name}:{" "}
          {change.fields.map((field) => `${field.field} ${shown(field.before) || "–"} → ${shown(field.after) || "–"}`).join(", ")}
        </p>
      ))}
      {problems.slice(0, 12).map((problem) => (
        <p key={`${problem.object}${problem.message}`}>
          <Badge tone={problem.severity === "mistake" ? "alarm" : "warn"}>{problem.object}</Badge> {problem.message}; expected {problem.expected}
        </p>
      ))}
      {problems.length > 12 ? <p className="text-soft">and {problems.length - 12} more</p> : null}
    </div>
  );
}
