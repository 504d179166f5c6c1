import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Content, DraftView, EditRequest } from "../../api/client";
import { draftPointsQuery } from "../../api/queries";
import { Button, Field } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { Panel } from "../../components/Page";
import { count } from "../../text/format";
import { namesOf, useEdits } from "../description/edits";
import { shown, targetOf } from "../description/schema";

/** Everything that was entered so far; kept over reloads until the device is in the draft. */
export interface Plan {
  /** The link to use; empty for a new one. */
  link: string;
  newLink: Content;
  device: Content;
  /** What reaching the device is tried with, once something was typed; it becomes the first point. */
  first: Content | null;
  points: Content[];
}

interface IntoDraftProps {
  gateway: string;
  draft: DraftView;
  plan: Plan;
  device: Content;
  linkName: string;
  isNewLink: boolean;
  onBack: () => void;
  onSaved: (device: string) => void;
}

/** Puts link, device and points into the draft in one step: all of it, or nothing. */
export function IntoDraft({ gateway, draft, plan, device, linkName, isNewLink, onBack, onSaved }: IntoDraftProps) {
  const edits = useEdits(gateway);
  const name = shown(device.name);
  const list = shown(device.points) || `points/${name}.csv`;
  const known = useQuery(draftPointsQuery(gateway, list));
  const rates = new Set(plan.points.map((point) => shown(point.rate)).filter(Boolean));
  const missing = [...rates].filter((rate) => !namesOf(draft).rate.includes(rate));
  const [period, setPeriod] = useState("1s");
  const wanted: EditRequest[] = [
    ...missing.map((rate) => edit("rate", "", { name: rate, period })),
    ...(isNewLink ? [edit("link", "", plan.newLink)] : []),
    edit("device", "", device),
    ...plan.points
      .filter((point) => !known.data?.some((other) => other.name === point.name))
      .map((point) => edit("point", list, point)),
  ];
  return (
    <Panel title="Into the draft">
      <div className="grid gap-4">
        <ul className="grid gap-1">
          {missing.map((rate) => (
            <li key={rate}>rate {rate}</li>
          ))}
          {isNewLink ? (
            <li>
              link {linkName} to {targetOf(plan.newLink)}
            </li>
          ) : null}
          <li>
            device {name} on link {linkName}
          </li>
          <li>
            {count(plan.points.length, "point")} in {list}
          </li>
        </ul>
        {missing.length > 0 ? (
          <div className="max-w-60">
            <Field label={`Period of ${missing.join(", ")}`} help="How often the points that name it are read." value={period} onChange={(event) => setPeriod(event.target.value)} />
          </div>
        ) : null}
        {edits.isError ? <Notice tone="alarm" title={edits.error.message} /> : null}
        <div className="flex gap-2">
          <Button quiet onClick={onBack}>
            Back
          </Button>
          <Button disabled={edits.isPending || known.isPending || name === ""} onClick={() => edits.mutate(wanted, { onSuccess: () => onSaved(name) })}>
            {edits.isPending ? "Saving …" : "Put it into the draft"}
          </Button>
        </div>
      </div>
    </Panel>
  );
}

function edit(of: EditRequest["object"]["class"], list: string, content: Content): EditRequest {
  return { object: { class: of, list, name: shown(content.name) }, version: null, content };
}
