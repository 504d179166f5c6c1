import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { DraftView, EditRequest, ModelView, OfferSource } from "../../api/client";
import { draftPointsQuery, modelsQuery } from "../../api/queries";
import { Button, Field } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Panel } from "../../components/Page";
import { count } from "../../text/format";
import { listOf, namesOf, objectsOf, useEdits } from "../description/edits";
import { moved } from "../devices/copies";
import { GatewayPage } from "../gateways/GatewayPage";
import { OffersPanel } from "../offers/OffersPanel";
import { useMay } from "../session/may";
import { missingRates, pathOf } from "./models";

/** Which makes of device are there? Point lists, each used for every unit of the same make, and those that ship. */
export function ModelsPage() {
  return (
    <GatewayPage title="Models">
      {({ gateway, draft }) => (
        <div className="grid items-start gap-6 lg:grid-cols-2">
          <Panel title="In this gateway">
            <Lists gateway={gateway} draft={draft} />
          </Panel>
          <Panel title="To start from">
            <Shipped gateway={gateway} draft={draft} />
          </Panel>
        </div>
      )}
    </GatewayPage>
  );
}

/** What a model offers is known without asking anybody. */
const MODEL: OfferSource[] = [{ word: "model", title: "A device model", of_device: false, form: {} }];

function Lists({ gateway, draft }: { gateway: string; draft: DraftView }) {
  const may = useMay("engineer");
  if (draft.lists.length === 0) return <Notice title="No point list yet">Take over one of the models, or add a device.</Notice>;
  return (
    <ul className="grid gap-3">
      {draft.lists.map((list) => (
        <li key={list.path} className="border-b border-line pb-3">
          <p className="flex flex-wrap items-baseline gap-x-3">
            <span className="font-mono text-sm">{list.path}</span>
            <span className="text-sm text-soft">{count(list.points, "point")}</span>
          </p>
          <p className="mt-1 flex flex-wrap gap-x-3 text-sm">
            {list.devices.length === 0 ? (
              <span className="text-soft">no device uses it yet: name it as the point list of a device</span>
            ) : (
              <span className="text-soft">{list.devices.length > 1 ? "changed once, it changes for" : "used by"}</span>
            )}
            {list.devices.map((device) => (
              <Link key={device} to={`/devices?${new URLSearchParams({ gateway, open: device })}`} className="text-act underline">
                {device}
              </Link>
            ))}
          </p>
          {may ? <NewList {...{ gateway, draft }} path={list.path} /> : null}
        </li>
      ))}
    </ul>
  );
}

/** A list gets a name of its own, so that more devices may use it, and those that do go on with it; or it is copied for others. */
function NewList({ gateway, draft, path }: { gateway: string; draft: DraftView; path: string }) {
  const [name, setName] = useState<string | null>(null);
  const [isCopy, setCopy] = useState(false);
  const points = useQuery({ ...draftPointsQuery(gateway, path), enabled: name !== null });
  const edits = useEdits(gateway);
  if (name === null) {
    const open = (copies: boolean) => {
      const base = path.replace(/^.*\//, "").replace(/(-\d+)?\.csv$/, "");
      setCopy(copies);
      setName(copies ? `${base}-2` : base);
    };
    return (
      <p className="mt-2 flex flex-wrap gap-2">
        {path.startsWith("models/") ? null : (
          <Button quiet onClick={() => open(false)}>
            Make a model of it
          </Button>
        )}
        <Button quiet onClick={() => open(true)}>
          Copy it
        </Button>
      </p>
    );
  }
  const to = `models/${name}.csv`;
  const isTaken = draft.lists.some((list) => list.path === to);
  const users = objectsOf(draft, "device").filter((device) => listOf(device) === path);
  return (
    <form
      className="mt-2 flex flex-wrap items-end gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        edits.mutate(moved(path, to, points.data ?? [], users, isCopy), { onSuccess: () => setName(null) });
      }}
    >
      <Field label={isCopy ? "Name of the copy" : "Name of the model"} value={name} fault={isTaken ? `${to} is there already` : undefined} onChange={(event) => setName(event.target.value)} />
      <Button type="submit" disabled={name.trim() === "" || isTaken || edits.isPending || !points.data}>
        {edits.isPending ? "Saving …" : "Make it"}
      </Button>
      <Button quiet onClick={() => setName(null)}>
        Leave it
      </Button>
      {edits.isError ? <Notice tone="alarm" title={edits.error.message} /> : null}
    </form>
  );
}

function Shipped({ gateway, draft }: { gateway: string; draft: DraftView }) {
  const models = useQuery(modelsQuery);
  const [search, setSearch] = useSearchParams();
  const may = useMay("engineer");
  if (models.isPending) return <Loading what="models" />;
  if (models.isError && !models.data) return <Notice tone="alarm" title={models.error.message} />;
  const opened = search.get("open");
  return (
    <ul className="grid gap-4">
      {models.data.map((model) => {
        const isThere = draft.lists.some((list) => list.path === pathOf(model));
        return (
          <li key={model.name} className="grid gap-2 border-b border-line pb-3">
            <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
              <div className="min-w-0 flex-1">
                <p className="font-semibold">{model.name}</p>
                <p className="text-sm text-soft">{model.title}</p>
                <p className="text-xs text-faint">Parameters of a device: {model.parameters}</p>
              </div>
              {may ? (
                <Button quiet onClick={() => setSearch({ gateway, ...(opened === model.name ? {} : { open: model.name }) })}>
                  {opened === model.name ? "Close" : isThere ? "Compare" : "Take it over"}
                </Button>
              ) : null}
            </div>
            {opened === model.name ? <Take {...{ gateway, draft, model }} onDone={() => setSearch({ gateway })} /> : null}
          </li>
        );
      })}
    </ul>
  );
}

/** Rates that the model names come first, since its points would name nothing without them. */
function Take({ gateway, draft, model, onDone }: { gateway: string; draft: DraftView; model: ModelView; onDone: () => void }) {
  const missing = missingRates(model, namesOf(draft).rate);
  const edits = useEdits(gateway);
  const [periods, setPeriods] = useState<Record<string, string>>({});
  if (missing.length > 0) {
    const wanted: EditRequest[] = missing.map((name) => ({
      object: { class: "rate", list: "", name },
      version: null,
      content: { name, period: periods[name] ?? "2s" },
    }));
    return (
      <div className="grid gap-3 rounded-md border border-line-strong bg-raised p-4">
        <p>The model samples at rates that this gateway does not have yet:</p>
        {missing.map((name) => (
          <label key={name} className="flex items-center gap-3">
            <span className="w-24 font-medium">{name}</span>
            <input
              value={periods[name] ?? "2s"}
              onChange={(event) => setPeriods({ ...periods, [name]: event.target.value })}
              className="h-9 max-md:h-11 w-24 rounded-md border border-line-strong bg-raised px-2"
            />
          </label>
        ))}
        {edits.isError ? <Notice tone="alarm" title={edits.error.message} /> : null}
        <Button className="justify-self-start" disabled={edits.isPending} onClick={() => edits.mutate(wanted)}>
          Add {count(missing.length, "rate")}
        </Button>
      </div>
    );
  }
  const users = draft.lists.find((list) => list.path === pathOf(model))?.devices ?? [];
  return (
    <div className="grid gap-3 rounded-md border border-line-strong bg-raised p-4">
      {users.length > 0 ? <p className="text-sm text-soft">Its list is used by {users.join(", ")}.</p> : null}
      <OffersPanel {...{ gateway, draft }} sources={MODEL} start={{ name: model.name }} targets={{ devices: [], list: pathOf(model) }} isEager />
      <Button quiet className="justify-self-start" onClick={onDone}>
        Leave it
      </Button>
    </div>
  );
}
