import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { devicePointsQuery, MOST_POINTS } from "../../api/queries";
import { Notice } from "../../components/Notice";
import { Panel } from "../../components/Page";
import { useLive, useReadings, useServiceNow } from "../../live/live";
import { listen } from "../../live/stream";
import { exact, span } from "../../text/format";
import { useBirths } from "../tap/births";
import { Quality } from "../points/Quality";
import { withReading } from "../points/rows";

interface Arrived {
  /** With all digits that the type has by which it was published. */
  text: string;
  at: number;
}

interface TapMessage {
  at: number;
  topic: string;
  metrics: { name: string; data_type: string; value: unknown }[];
}

/** The values of a device in the gateway, and the same values as they arrive at the broker. */
export function Arrivals({ gateway, device }: { gateway: string; device: string }) {
  const { status } = useLive();
  const now = useServiceNow();
  const revision = status?.gateways.find((running) => running.name === gateway)?.revision;
  // A new revision brings new points.
  const points = useQuery(devicePointsQuery(gateway, device, revision));
  const readings = useReadings((points.data ?? []).map((point) => point.id));
  const { arrived, lost } = useArrived(gateway, device);
  const uplink = status?.gateways.find((running) => running.name === gateway)?.uplinks.find((known) => known.kind === "sparkplug");
  const own = (points.data ?? []).map((point) => withReading(point, readings));
  useBirths(gateway, uplink?.name, own.some((point) => !arrived.has(point.name)));
  return (
    <Panel title={`${device}: from the field to the broker`}>
      {own.length === 0 ? <p className="text-soft">Its points are not active yet.</p> : null}
      {own.length === MOST_POINTS ? <p className="text-soft">The first {MOST_POINTS} of its points.</p> : null}
      {lost ? <Notice tone="alarm" title={`The broker cannot be listened to: ${lost}`} /> : null}
      <div className="overflow-x-auto">
        <table className="w-full text-left text-sm">
          <thead>
            <tr className="text-xs text-soft">
              <th className="py-1 pr-3 font-normal">Point</th>
              <th className="pr-3 text-right font-normal">Read</th>
              <th className="pr-3 font-normal">Quality</th>
              <th className="pr-3 text-right font-normal">At the broker</th>
              <th className="text-right font-normal">Arrived</th>
            </tr>
          </thead>
          <tbody>
            {own.map((point) => {
              const there = arrived.get(point.name);
              return (
                <tr key={point.id} className="border-t border-line">
                  <th className="py-1.5 pr-3 font-medium">{point.name}</th>
                  <td className="reading max-w-56 truncate pr-3 text-right tabular-nums" title={exact(point.value, point.type)}>
                    {exact(point.value, point.type)} {point.unit}
                  </td>
                  <td className="pr-3">
                    <Quality reading={point} />
                  </td>
                  <td className="max-w-56 truncate pr-3 text-right tabular-nums" title={there?.text}>
                    {there ? there.text : "not yet"}
                  </td>
                  <td className="text-right whitespace-nowrap tabular-nums text-soft">{there ? `${span(now - there.at)} ago` : ""}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
    </Panel>
  );
}

/** What arrives at the broker of one device, by the name of the metric. */
function useArrived(gateway: string, device: string) {
  const [arrived, setArrived] = useState<ReadonlyMap<string, Arrived>>(new Map());
  const [lost, setLost] = useState<string | null>(null);
  useEffect(() => {
    return listen(`/api/v1/tap?gateway=${encodeURIComponent(gateway)}`, {
      message: (data) => {
        const message: TapMessage = JSON.parse(data);
        if (!message.topic.endsWith(`/${device}`)) return;
        setLost(null);
        setArrived((known) => {
          const next = new Map(known);
          for (const metric of message.metrics) next.set(metric.name, { text: exact(metric.value, metric.data_type === "Float" ? "float32" : ""), at: message.at });
          return next;
        });
      },
      lost: setLost,
    });
  }, [gateway, device]);
  return { arrived, lost };
}
