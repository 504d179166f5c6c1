import { useMutation, useQuery } from "@tanstack/react-query";
import { api, type Content, dataOf, type DraftView } from "../../api/client";
import { draftPointsQuery, modelsQuery } from "../../api/queries";
import { Button, Choice } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { count, exact } from "../../text/format";
import { contentOf } from "../description/edits";
import { shown } from "../description/schema";

interface UseModelProps {
  gateway: string;
  draft: DraftView;
  link: Content;
  device: Content;
  onList: (path: string | null) => void;
  onText: (text: string) => void;
}

/** As many values as are asked for at a time. */
const ASKED = 12;

/** The points of a device are those of a model: chosen, seen with the device's base, and asked for once before anything is saved. */
export function UseModel({ gateway, draft, link, device, onList, onText }: UseModelProps) {
  const models = useQuery(modelsQuery);
  const path = shown(device.points);
  const choose = (word: string) => {
    const model = models.data?.find((known) => `model:${known.name}` === word);
    if (model) onText(model.text);
    else onList(word === "" ? null : word);
  };
  return (
    <div className="grid gap-3">
      <div className="max-w-sm">
        <Choice label="A model" help="A list that other devices use, or one to start from." value={draft.lists.some((list) => list.path === path) ? path : ""} onChange={(event) => choose(event.target.value)}>
          <option value="">Points of its own</option>
          {draft.lists.length > 0 ? (
            <optgroup label="Lists of this gateway">
              {draft.lists.map((list) => (
                <option key={list.path} value={list.path}>
                  {list.path} ({list.points}){list.devices.length > 0 ? `, used by ${list.devices.join(", ")}` : ""}
                </option>
              ))}
            </optgroup>
          ) : null}
          <optgroup label="To start from">
            {models.data?.map((model) => (
              <option key={model.name} value={`model:${model.name}`}>
                {model.title}
              </option>
            ))}
          </optgroup>
        </Choice>
      </div>
      {draft.lists.some((list) => list.path === path) ? <ModelPoints {...{ gateway, link, device, path }} /> : null}
    </div>
  );
}

function ModelPoints({ gateway, link, device, path }: { gateway: string; link: Content; device: Content; path: string }) {
  const points = useQuery(draftPointsQuery(gateway, path));
  const ask = useMutation({
    mutationFn: async () => {
      const told = new Map<string, string>();
      for (const point of (points.data ?? []).slice(0, ASKED)) {
        const content = contentOf(point);
        try {
          const reading = await dataOf(api.POST("/api/v1/gateways/{gateway}/trials", { params: { path: { gateway } }, body: { link, device, point: content } }));
          told.set(point.name, `${exact(reading.value, shown(content.type))} ${reading.unit}`);
        } catch (error) {
          told.set(point.name, error instanceof Error ? error.message : "no answer");
        }
      }
      return told;
    },
  });
  if (points.isPending) return <Loading what="its points" />;
  if (!points.data) return <Notice tone="alarm" title={points.error?.message ?? "The list is not there"} />;
  const base = shown(device.base);
  return (
    <div className="grid gap-2 rounded-md border border-line p-3">
      <div className="flex flex-wrap items-center gap-3 text-sm">
        <p>
          {count(points.data.length, "point")}
          {base ? `, addresses counted from base ${base}` : ""}
        </p>
        <Button quiet disabled={ask.isPending} onClick={() => ask.mutate()}>
          {ask.isPending ? "Asking …" : points.data.length > ASKED ? `Ask for the first ${ASKED}` : "Ask for their values"}
        </Button>
      </div>
      <ul aria-label="Points of the model" className="grid max-h-72 divide-y divide-line overflow-auto text-sm">
        {points.data.map((point) => {
          const content = contentOf(point);
          return (
            <li key={point.name} className="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_minmax(0,1fr)] gap-x-3 py-1">
              <span className="truncate font-medium">{point.name}</span>
              <span className="truncate font-mono text-xs leading-5 text-soft">{shown(content.address)}</span>
              <span className="text-right tabular-nums">{ask.data?.get(point.name) ?? ""}</span>
            </li>
          );
        })}
      </ul>
    </div>
  );
}
