import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Content, dataOf, type DraftView, type Forms, type RequestView } from "../../api/client";
import { requestsQuery, statisticsQuery } from "../../api/queries";
import { Badge } from "../../components/Badge";
import { Button } from "../../components/Form";
import { Histogram } from "../../components/Histogram";
import { Loading, Notice } from "../../components/Notice";
import { count, span } from "../../text/format";
import { Counts, framesOf } from "../links/LinkCounts";
import { useMay } from "../session/may";
import { partsOf } from "./protocol";
import type { ProtocolParts } from "./protocol/parts";
import { WhatItHas } from "./WhatItHas";

interface DeviceLineProps {
  gateway: string;
  draft: DraftView;
  forms: Forms;
  device: string;
  /** The link and the device as the draft has them: what trials ask. */
  link: Content;
  content: Content;
  isRunning: boolean;
}

/** Can I reach the device, and how is it asked? Its requests, what became of them, and trials. */
export function DeviceLine({ gateway, draft, forms, device, link, content, isRunning }: DeviceLineProps) {
  const name = String(content.link ?? "");
  const may = useMay("engineer");
  const { Identity, lists } = partsOf(link);
  return (
    <div className="grid gap-6">
      {isRunning && lists ? <Lists {...{ gateway, device, lists }} /> : null}
      {isRunning ? <Running {...{ gateway, device }} link={name} /> : <Notice title="The device does not run yet">Activate the draft to poll it. Trials work before.</Notice>}
      {may ? (
        <>
          {Identity ? (
            <div className="grid gap-2">
              <h3 className="font-semibold">Who is it?</h3>
              <Identity {...{ gateway, link }} device={content} />
            </div>
          ) : null}
          <div className="grid gap-2">
            <h3 className="font-semibold">What does it have?</h3>
            <WhatItHas {...{ gateway, draft, forms, device, link, content }} />
          </div>
        </>
      ) : null}
    </div>
  );
}

/** What runs of it, in forms that programs of others read. */
function Lists({ gateway, device, lists }: { gateway: string; device: string; lists: NonNullable<ProtocolParts["lists"]> }) {
  const base = `/api/v1/gateways/${encodeURIComponent(gateway)}/devices/${encodeURIComponent(device)}`;
  return (
    <p className="text-sm text-soft">
      Save its points:{" "}
      {lists.map(({ text, path, file }, at) => (
        <span key={path}>
          {at > 0 ? ", " : null}
          <a href={`${base}/${path}`} download={`${device}_${file}.csv`} className="inline-flex items-center text-act underline max-md:min-h-11">
            {text}
          </a>
        </span>
      ))}
    </p>
  );
}

function Running({ gateway, device, link }: { gateway: string; device: string; link: string }) {
  const requests = useQuery(requestsQuery(gateway, link));
  const statistics = useQuery(statisticsQuery(gateway, link));
  const queries = useQueryClient();
  const may = useMay("engineer");
  const relearn = useMutation({
    mutationFn: () =>
      dataOf(api.POST("/api/v1/gateways/{gateway}/links/{link}/relearn", { params: { path: { gateway, link } }, body: { device } })),
    onSettled: () => queries.invalidateQueries({ queryKey: requestsQuery(gateway, link).queryKey }),
  });
  if (requests.isPending || statistics.isPending) return <Loading what="its requests" />;
  const error = requests.error ?? statistics.error;
  if (error || !requests.data || !statistics.data) return <Notice title={error?.message ?? "The link does not run."} />;
  const own = requests.data.filter((request) => request.devices.includes(device));
  const counts = statistics.data.devices.find((known) => known.name === device);
  const hasLearned = own.some((request) => !request.as_planned);
  return (
    <>
      {counts ? (
        <section aria-label="What became of its requests" className="grid gap-3">
          <Counts of={counts} lately={counts.lately} minutes={statistics.data.lately_minutes} since={statistics.data.since} />
          <Histogram of={counts.answer_times} label="Answer times of the device" />
          <Link to={framesOf(gateway, link, device)} className="text-sm inline-flex items-center text-act underline max-md:min-h-11">
            Its frames
          </Link>
        </section>
      ) : null}
      <section aria-label="Requests" className="grid gap-2">
        <header className="flex flex-wrap items-center gap-3">
          <h3 className="font-semibold">{count(own.length, "request")} read it</h3>
          {hasLearned ? <span className="text-sm text-soft">Some had to be cut, since the device refused or did not answer.</span> : null}
          {hasLearned && may ? (
            <Button quiet className="ml-auto" disabled={relearn.isPending} onClick={() => relearn.mutate()}>
              Try the whole ones again
            </Button>
          ) : null}
        </header>
        <RequestTable requests={own} />
      </section>
    </>
  );
}

function RequestTable({ requests }: { requests: RequestView[] }) {
  return (
    <div className="overflow-x-auto">
      <table className="w-full text-sm">
        <thead>
          <tr className="text-left text-xs text-soft">
            <th className="pr-3 font-normal">Reads</th>
            <th className="pr-3 text-right font-normal">Every</th>
            <th className="pr-3 font-normal">Points</th>
            <th className="font-normal">State</th>
          </tr>
        </thead>
        <tbody>
          {requests.map((request) => (
            <tr key={`${request.reads} ${request.period_ms}`} className="border-t border-line align-top">
              <td className="py-1.5 pr-3 whitespace-nowrap">
                {request.reads}
              </td>
              <td className="py-1.5 pr-3 text-right whitespace-nowrap tabular-nums">{request.period_ms < 60_000 ? `${request.period_ms} ms` : span(request.period_ms)}</td>
              <td className="py-1.5 pr-3 text-soft">{namesOf(request.points)}</td>
              <td className="py-1.5">
                <RequestState request={request} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** As many names as one line takes. */
function namesOf(points: string[]): string {
  return points.length > 6 ? `${points.slice(0, 5).join(", ")} and ${points.length - 5} more` : points.join(", ");
}

function RequestState({ request }: { request: RequestView }) {
  const again = request.whole_again_in_ms == null ? "" : `whole again in ${span(request.whole_again_in_ms)}`;
  if (request.bad) {
    return (
      <>
        <Badge tone="alarm">bad</Badge> <span>{request.bad}</span> <span className="text-soft">{again}</span>
      </>
    );
  }
  return <span className="text-soft">{request.as_planned ? "as planned" : `a part; ${again}`}</span>;
}
