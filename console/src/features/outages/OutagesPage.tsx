import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { OutageView } from "../../api/client";
import { OUTAGE_PAGE, type OutageFilter, outagePage } from "../../api/queries";
import { Badge } from "../../components/Badge";
import { Button, Choice, Field } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Page } from "../../components/Page";
import { useSearch } from "../../components/search";
import { since, SpanChoice } from "../../components/SpanChoice";
import { useLive, useServiceNow } from "../../live/live";
import { count, date, span } from "../../text/format";

const KINDS = ["service", "link", "device", "uplink"];

/** What did not work, from when to when, and what became of the values meanwhile? */
export function OutagesPage() {
  const [search, change] = useSearch();
  const { status } = useLive();
  const now = useServiceNow();
  const [opened] = useState(() => Date.now());
  const from = since(search.get("span") ?? "", opened);
  const filter: OutageFilter = {};
  for (const key of ["gateway", "kind", "name"] as const) {
    const text = search.get(key);
    if (text) filter[key] = text;
  }
  if (from !== undefined) filter.from = from;
  const outages = useInfiniteQuery({
    queryKey: ["outages", filter],
    queryFn: ({ pageParam }) => outagePage(filter, pageParam),
    initialPageParam: undefined as OutageView | undefined,
    getNextPageParam: (last) => (last.length < OUTAGE_PAGE ? undefined : last.at(-1)),
    refetchInterval: 5000,
  });
  const all = outages.data?.pages.flat() ?? [];
  const csv = new URLSearchParams(Object.entries(filter).map(([key, value]) => [key, String(value)])).toString();
  return (
    <Page
      title="Outages"
      beside={
        <a href={`/api/v1/outages.csv?${csv}`} download className="ml-auto inline-flex min-h-9 items-center max-md:min-h-11 rounded-md border border-line-strong px-3 hover:bg-select">
          Save as CSV
        </a>
      }
    >
      <div className="mb-4 grid grid-cols-2 gap-3 md:grid-cols-4">
        <Choice label="Gateway" value={search.get("gateway") ?? ""} onChange={(event) => change({ gateway: event.target.value })}>
          <option value="">All</option>
          {status?.gateways.map((gateway) => (
            <option key={gateway.name}>{gateway.name}</option>
          ))}
        </Choice>
        <Choice label="What" value={search.get("kind") ?? ""} onChange={(event) => change({ kind: event.target.value })}>
          <option value="">Everything</option>
          {KINDS.map((kind) => (
            <option key={kind}>{kind}</option>
          ))}
        </Choice>
        <Field label="Name" type="search" value={search.get("name") ?? ""} onChange={(event) => change({ name: event.target.value })} />
        <SpanChoice word={search.get("span") ?? ""} onChoose={(word) => change({ span: word })} />
      </div>
      {outages.isPending ? <Loading what="outages" /> : null}
      {outages.isError ? <Notice tone="alarm" title={outages.error.message} /> : null}
      {outages.isSuccess && all.length === 0 ? <Notice title="Nothing was away">What breaks is written down here, until when it lasted, and what became of the values.</Notice> : null}
      <ul aria-label="Outages" className="grid divide-y divide-line">
        {all.map((outage) => (
          <Outage key={outage.id} outage={outage} now={now} />
        ))}
      </ul>
      {all.length > 0 ? (
        <div className="flex items-center gap-3 py-4">
          <p className="text-sm text-soft">{count(all.length, "outage")}</p>
          {outages.hasNextPage ? (
            <Button quiet disabled={outages.isFetchingNextPage} onClick={() => void outages.fetchNextPage()}>
              Older ones
            </Button>
          ) : null}
        </div>
      ) : null}
    </Page>
  );
}

function Outage({ outage, now }: { outage: OutageView; now: number }) {
  const { to } = outage;
  return (
    <li className="grid gap-x-4 gap-y-0.5 py-2 text-sm md:grid-cols-[9.5rem_6rem_minmax(0,1fr)_16rem]">
      <span className="tabular-nums text-soft">{date(outage.from)}</span>
      <span>{to == null ? <Badge tone="alarm">for {span(now - outage.from)}</Badge> : `for ${span(to - outage.from)}`}</span>
      <div className="min-w-0">
        <p className="font-medium">
          {outage.kind} {outage.name}
          {outage.gateway ? <span className="font-normal text-soft"> of {outage.gateway}</span> : null}
        </p>
        <p className="break-words text-soft">{outage.why}</p>
      </div>
      <p className="md:text-right">{fate(outage)}</p>
    </li>
  );
}

/** What became of the values meanwhile. */
export function fate({ kept, sent_later, lost, to, settled }: OutageView): string {
  if (kept == null) return "";
  const number = (of: number | null | undefined) => (of ?? 0).toLocaleString("en");
  const sent = to == null ? "" : settled ? `, ${number(sent_later)} sent later` : `, ${number(sent_later)} sent so far`;
  return `${number(kept)} kept${sent}, ${(lost ?? 0) > 0 ? `${number(lost)} lost` : "none lost"}`;
}
