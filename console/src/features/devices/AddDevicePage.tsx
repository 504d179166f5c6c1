import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import type { Content, DraftView, Forms } from "../../api/client";
import { checkQuery, differenceQuery } from "../../api/queries";
import { Button, Choice } from "../../components/Form";
import { focusFirst } from "../../components/focus";
import { Loading, Notice } from "../../components/Notice";
import { Panel } from "../../components/Page";
import { count } from "../../text/format";
import { ActivatePanel, Problems } from "../changes/ChangesPage";
import { DifferenceView } from "../changes/DifferenceView";
import { OutcomePanel } from "../changes/OutcomePanel";
import { contentOf, namesOf, objectsOf } from "../description/edits";
import { KindChoice } from "../description/KindChoice";
import { useKept } from "../description/kept";
import { useAnnounce } from "../description/presence";
import { SchemaForm } from "../description/SchemaForm";
import { shown, targetOf, withKey } from "../description/schema";
import { GatewayPage } from "../gateways/GatewayPage";
import { useMay } from "../session/may";
import { Takes } from "../session/Takes";
import { Arrivals } from "./Arrivals";
import { InDraft } from "./InDraft";
import { IntoDraft, type Plan } from "./IntoDraft";
import { NewPoints } from "./NewPoints";
import { partsOf } from "./protocol";
import { TrialPanel } from "./TrialPanel";
import { WhatItHas } from "./WhatItHas";
import { OffersPanel } from "../offers/OffersPanel";
import { withoutTrust } from "../offers/offers";

const STEPS = ["Link", "Reach it", "Device", "Points", "Into the draft", "Run it"] as const;

/** From the cabinet to the broker: a device, step by step, each step tried before anything is saved. */
export function AddDevicePage() {
  const may = useMay("engineer");
  return (
    <GatewayPage title="Add a device">
      {({ gateway, draft, forms }) => !may ? <Takes role="engineer" what="Adding a device" /> : <Steps key={gateway} {...{ gateway, draft, forms }} />}
    </GatewayPage>
  );
}

function Steps({ gateway, draft, forms }: { gateway: string; draft: DraftView; forms: Forms }) {
  const [search, setSearch] = useSearchParams();
  const links = objectsOf(draft, "link");
  const protocol = forms.links[0]?.word ?? "";
  const empty: Plan = {
    link: links[0]?.name ?? "",
    newLink: { protocol },
    device: {},
    first: null,
    points: [],
  };
  const kept = useKept(`${gateway}/add-device`, { version: null, content: { ...empty } });
  const typed = { ...empty, ...kept.content } as Plan;
  const known = links.find((object) => object.name === typed.link);
  const link = known ? contentOf(known) : typed.newLink;
  const plan = { ...typed, first: typed.first ?? partsOf(link).first };
  // What was not typed stays open: it follows the protocol of the link.
  const change = (changes: Partial<Plan>) => kept.change({ ...typed, ...changes });
  useAnnounce("a new device");
  const step = Math.min(Math.max(Number(search.get("step") ?? 0), 0), STEPS.length - 1);
  const go = (to: number, more: Record<string, string> = {}) => setSearch({ gateway, step: String(to), ...more });

  const linkName = known?.name ?? shown(plan.newLink.name);
  const kind = forms.links.find((form) => form.word === link.protocol);
  // What shows how a link leads to its server, before anything is saved.
  const leading = kind?.sources.filter((source) => source.word === "endpoints") ?? [];
  const names = { ...namesOf(draft), link: [...namesOf(draft).link, linkName].filter(Boolean) };
  const device = { ...plan.device, link: linkName };
  const saved = search.get("device") ?? "";
  const inDraft = objectsOf(draft, "device").find((object) => object.name === saved);
  // What is in the draft is gone back to there.
  const goTo = (to: number) => go(to, saved === "" ? {} : { device: saved });

  const place = useRef<HTMLDivElement>(null);
  useEffect(() => focusFirst(place.current), [step]);
  const isReady = step === 0 ? linkName !== "" : step === 2 ? Boolean(plan.device.name) : step < 4;
  return (
    <div
      className="grid max-w-3xl gap-4"
      onKeyDown={(event) => {
        // Enter goes on; what is tried in a form of its own is tried.
        const isTyped = event.target instanceof HTMLInputElement && event.target.form === null;
        if (event.key === "Enter" && isTyped && step < 4 && isReady) go(step + 1);
      }}
    >
      <ol aria-label="Steps" className="flex flex-wrap gap-x-1 gap-y-1 text-sm">
        {STEPS.map((title, at) => (
          <li key={title}>
            <button
              type="button"
              aria-current={at === step ? "step" : undefined}
              disabled={at === STEPS.length - 1 && saved === ""}
              onClick={() => goTo(at)}
              className="rounded-md px-2 py-1 text-soft enabled:hover:text-ink disabled:opacity-60 aria-[current]:bg-select aria-[current]:font-semibold aria-[current]:text-ink"
            >
              {at + 1}. {title}
            </button>
          </li>
        ))}
      </ol>
      <div ref={place} className="grid gap-4">
      {inDraft && step < 5 ? (
        <InDraft {...{ gateway, draft, forms, step }} device={inDraft} onStep={goTo} onRenamed={(device) => go(step, { device })} />
      ) : null}
      {!inDraft && step === 0 ? (
        <Panel title="Which way leads to it?">
          <div className="grid gap-4">
            <Choice label="Link" value={known ? plan.link : ""} onChange={(event) => change({ link: event.target.value })}>
              {links.map((object) => (
                <option key={object.name} value={object.name}>
                  {object.name} ({targetOf(contentOf(object))})
                </option>
              ))}
              <option value="">A new link</option>
            </Choice>
            {known ? null : (
              <>
                <KindChoice
                  label="Protocol"
                  kinds={forms.links}
                  word={shown(plan.newLink.protocol)}
                  onChoose={(protocol) => change({ newLink: fitting({ ...plan.newLink, protocol }, forms) })}
                />
                <SchemaForm schema={kind?.schema} content={plan.newLink} onChange={(newLink) => change({ newLink })} problems={[]} names={names} />
                {leading.length > 0 && targetOf(plan.newLink) ? (
                  <OffersPanel
                    {...{ gateway, draft }}
                    sources={leading}
                    link={{ ...plan.newLink, name: linkName || "new" }}
                    targets={{ devices: [] }}
                    onWay={(keys) => change({ newLink: { ...withoutTrust(plan.newLink), ...keys } })}
                  />
                ) : null}
              </>
            )}
            <Next onNext={() => go(1)} disabled={linkName === ""} why="Name the link and say where it leads." />
          </div>
        </Panel>
      ) : null}
      {!inDraft && step === 1 ? (
        <Panel title="Does it answer?">
          <div className="grid gap-4">
            <SchemaForm
              schema={kind?.device}
              content={plan.device}
              onChange={(next) => change({ device: next })}
              problems={[]}
              names={names}
              without={["name", "title", "link", "points"]}
            />
            <p className="text-soft">One value that its manual names:</p>
            <SchemaForm
              schema={kind?.point}
              content={plan.first}
              onChange={(first) => change({ first })}
              problems={[]}
              names={names}
              without={["name", "title", "rate", "report", "deadband", "access", "low", "high"]}
            />
            <p className="text-xs text-faint">Addresses: {kind?.addresses}</p>
            <TrialPanel gateway={gateway} link={link} device={device} point={plan.first} label="Ask it now" />
            <Next onNext={() => go(2)} onBack={() => go(0)} />
          </div>
        </Panel>
      ) : null}
      {!inDraft && step === 2 ? (
        <Panel title="What is it called?">
          <div className="grid gap-4">
            <SchemaForm
              schema={kind?.device}
              content={plan.device}
              onChange={(next) => change({ device: next })}
              problems={[]}
              names={names}
              without={["link"]}
            />
            <Next onNext={() => go(3)} onBack={() => go(1)} disabled={!plan.device.name} why="Give it a name." />
          </div>
        </Panel>
      ) : null}
      {!inDraft && step === 3 ? (
        <Panel title="Its points">
          <p className="mb-3 text-sm text-soft">Those that its manual names. What it tells of itself is asked for once it is in the draft: go on without any.</p>
          <NewPoints
            {...{ gateway, draft, link, device }}
            schema={kind?.point}
            first={plan.first}
            points={plan.points}
            onChange={(points) => change({ points })}
            onList={(path) => change({ device: withKey(plan.device, "points", path ?? undefined) })}
          />
          <Next onNext={() => go(4)} onBack={() => go(2)} />
        </Panel>
      ) : null}
      {!inDraft && step === 4 ? (
        <IntoDraft
          {...{ gateway, draft, device, linkName, plan }}
          isNewLink={known === undefined}
          onBack={() => go(3)}
          onSaved={(name) => {
            kept.forget();
            go(5, { device: name });
          }}
        />
      ) : null}
      {step === 5 ? <RunIt {...{ gateway, draft, forms }} device={saved} /> : null}
      </div>
    </div>
  );
}

/** What was typed for a link of another protocol stays where it means something in this one. */
function fitting(link: Content, forms: Forms): Content {
  const schema = forms.links.find((kind) => kind.word === link.protocol)?.schema as { properties?: Record<string, unknown> } | undefined;
  return Object.fromEntries(Object.entries(link).filter(([key]) => key in (schema?.properties ?? {})));
}

function Next({ onNext, onBack, disabled = false, why }: { onNext: () => void; onBack?: () => void; disabled?: boolean; why?: string }) {
  return (
    <div className="mt-2 flex flex-wrap items-center gap-2">
      {onBack ? (
        <Button quiet onClick={onBack}>
          Back
        </Button>
      ) : null}
      <Button onClick={onNext} disabled={disabled}>
        Go on
      </Button>
      {disabled && why ? <span className="text-sm text-soft">{why}</span> : null}
    </div>
  );
}

/** Activates, and follows the device's values from the field to the broker. */
function RunIt({ gateway, draft, forms, device }: { gateway: string; draft: DraftView; forms: Forms; device: string }) {
  const difference = useQuery(differenceQuery(gateway));
  const check = useQuery(checkQuery(gateway));
  const [activated, setActivated] = useState<{ before: number | null } | null>(null);
  if (!difference.data || !check.data) return <Loading what="what will change" />;
  const hasChanges = difference.data.objects.length > 0;
  const content = objectsOf(draft, "device").find((object) => object.name === device);
  const link = content && objectsOf(draft, "link").find((object) => object.name === contentOf(content).link);
  return (
    <div className="grid gap-4">
      {hasChanges ? (
        <>
          {content && link ? (
            <Panel title="What does it have?">
              <WhatItHas {...{ gateway, draft, forms, device }} link={contentOf(link)} content={contentOf(content)} />
            </Panel>
          ) : null}
          <Panel title="What will change">
            <DifferenceView difference={difference.data} gateway={gateway} />
          </Panel>
          {check.data.mistakes > 0 ? (
            <Notice tone="alarm" title={`${count(check.data.mistakes, "mistake")} in the draft: each leads to its field`}>
              <Problems {...{ gateway, draft }} problems={check.data.problems.filter((problem) => problem.severity === "mistake")} />
            </Notice>
          ) : null}
          <ActivatePanel
            gateway={gateway}
            version={difference.data.version}
            mistakes={check.data.mistakes}
            keeping={difference.data.keeping ?? []}
            onActivated={() => setActivated({ before: draft.active ?? null })}
          />
        </>
      ) : null}
      {activated ? <OutcomePanel gateway={gateway} before={activated.before} /> : null}
      {hasChanges ? null : <Arrivals gateway={gateway} device={device} />}
    </div>
  );
}
