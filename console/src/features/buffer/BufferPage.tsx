import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, dataOf, type UplinkStatus } from "../../api/client";
import { bufferQuery, messagesQuery } from "../../api/queries";
import { Confirm } from "../../components/Confirm";
import { Facts } from "../../components/Facts";
import { Button, Field } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Page, Panel } from "../../components/Page";
import { Plot } from "../../components/Plot";
import { State } from "../../components/State";
import { useLive, useServiceNow } from "../../live/live";
import { clock, count, date, span } from "../../text/format";
import { useMay } from "../session/may";

/** What waits for each broker, since when, and did anything get lost? */
export function BufferPage() {
  const { status } = useLive();
  const uplinks = (status?.gateways ?? []).flatMap((gateway) => gateway.uplinks.map((uplink) => ({ gateway: gateway.name, uplink })));
  return (
    <Page title="Buffer">
      {!status ? <Loading what="uplinks" /> : null}
      {status && uplinks.length === 0 ? <Notice title="No uplink runs">What waits for a broker is shown as soon as one does.</Notice> : null}
      <div className="grid gap-4">
        {uplinks.map(({ gateway, uplink }) => (
          <UplinkBuffer key={`${gateway}/${uplink.name}`} gateway={gateway} uplink={uplink} />
        ))}
      </div>
    </Page>
  );
}

/** Seconds of a step, so that the picture has the same unit as the numbers beside it. */
const STEP = 10;

function UplinkBuffer({ gateway, uplink }: { gateway: string; uplink: UplinkStatus }) {
  const view = useQuery({ ...bufferQuery(gateway, uplink.name), refetchInterval: 10_000 });
  const now = useServiceNow();
  const may = useMay("engineer");
  const { buffer } = uplink;
  const items = uplink.kind === "json" ? "messages" : "samples";
  const past = view.data?.past ?? [];
  const times = past.map((moment) => moment.at / 1000);
  const away = past.filter((moment) => !moment.online).length;
  return (
    <Panel
      title={`${uplink.name} of ${gateway}`}
      beside={
        <>
          <State word={uplink.state} />
          {may ? <Purge gateway={gateway} uplink={uplink.name} waiting={buffer.waiting} items={items} /> : null}
        </>
      }
    >
      {buffer.is_full ? <Notice tone="alarm" title={`There is no more room: ${items} are being lost.`} /> : null}
      {buffer.journal_error ? <Notice tone="alarm" title={`The database does not take what waits: ${buffer.journal_error}`} /> : null}
      {uplink.host_in_doubt ? <Notice tone="warn" title="The primary host may not be back after a broken connection: what waits is held." /> : null}
      <div className="grid items-start gap-x-8 gap-y-3 lg:grid-cols-[minmax(16rem,1fr)_2fr]">
        <Facts
          facts={[
            ["Waiting", count(buffer.waiting, items.slice(0, -1))],
            ["Oldest", buffer.oldest_at == null ? "nothing waits" : `${span(now - buffer.oldest_at)} ago`],
            ["In the database", `${buffer.durable.toLocaleString("en")}, ${megabytes(buffer.bytes)}`],
            ["A crash would cost", count(Math.max(0, buffer.waiting - buffer.durable), items.slice(0, -1))],
            ["Coming", `${buffer.in_per_second.toFixed(1)} a second`],
            ["Arriving", `${buffer.out_per_second.toFixed(1)} a second`],
            ["Full in", buffer.seconds_to_full == null ? "no sign of it" : `about ${span(buffer.seconds_to_full * 1000)}`],
            ["Empty in", drained(buffer)],
            ...(buffer.unsettled > 0
              ? [["Kept until the host must have them", `${buffer.unsettled.toLocaleString("en")} ${items}`] satisfies [string, string]]
              : []),
            ["Delivered", `${uplink.samples_delivered.toLocaleString("en")} ${items}`],
            ["Lost", buffer.lost.toLocaleString("en")],
            ["Counted since", date(uplink.counted_since)],
          ]}
        />
        <div className="grid min-w-0 content-start gap-2">
          {past.length < 2 ? (
            <p className="text-sm text-soft">A picture of the last hours grows here, a step every ten seconds.</p>
          ) : (
            <>
              <p className="text-sm text-soft">
                Came <span className="text-act">—</span> and arrived <span className="text-faint">- -</span>, a second
                {away > 0 ? `; not online in ${count(away, "step")} of ${past.length}` : ""}
              </p>
              <Plot
                label={`${items} that came and that arrived in the last hours`}
                unit={`${items} a second`}
                times={times}
                values={past.map((moment) => moment.came / STEP)}
                others={past.map((moment) => (moment.online ? moment.delivered / STEP : null))}
              />
              <p className="text-sm text-soft">Waiting</p>
              <Plot label={`${items} that waited in the last hours`} unit={items} times={times} values={past.map((moment) => moment.waiting)} />
            </>
          )}
        </div>
      </div>
      {uplink.kind === "json" ? <LastMessages gateway={gateway} uplink={uplink.name} /> : null}
      {view.data && view.data.gaps.length > 0 ? (
        <table className="mt-4 w-full text-left text-sm">
          <caption className="pb-1 text-left font-medium">Missing at the broker</caption>
          <thead>
            <tr className="text-xs text-soft">
              <th className="py-1 pr-3 font-normal">From</th>
              <th className="pr-3 font-normal">To</th>
              <th className="pr-3 text-right font-normal">How many</th>
              <th className="font-normal">Why</th>
            </tr>
          </thead>
          <tbody>
            {[...view.data.gaps].reverse().map((gap) => (
              <tr key={`${gap.from}-${gap.why}`} className="border-t border-line">
                <td className="py-1 pr-3">{date(gap.from)}</td>
                <td className="pr-3">{date(gap.to)}</td>
                <td className="pr-3 text-right tabular-nums">{gap.count.toLocaleString("en")}</td>
                <td>{gap.why}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
    </Panel>
  );
}

/** The newest messages that were made from templates, also those that could not be. */
function LastMessages({ gateway, uplink }: { gateway: string; uplink: string }) {
  const messages = useQuery({ ...messagesQuery(gateway, uplink), refetchInterval: 5000 });
  return (
    <details className="mt-4 rounded-md border border-line p-3 text-sm">
      <summary className="cursor-pointer text-soft max-md:py-3">Last messages</summary>
      {messages.isError ? <Notice tone="alarm" title={messages.error.message} /> : null}
      {messages.data?.length === 0 ? <p className="mt-2 text-soft">No message has been made yet.</p> : null}
      <ul className="mt-2 grid gap-2">
        {[...(messages.data ?? [])].reverse().map((message, at) => (
          <li key={`${message.at}-${at}`}>
            <p className="wrap-anywhere">
              {clock(message.at)} <span className="font-mono text-xs">{message.topic}</span>
            </p>
            {message.error ? (
              <p className="text-alarm">{message.error}</p>
            ) : (
              <pre className="max-h-32 overflow-auto text-xs whitespace-pre-wrap text-soft wrap-anywhere">{message.payload}</pre>
            )}
          </li>
        ))}
      </ul>
    </details>
  );
}

function megabytes(bytes: number): string {
  return bytes < 100_000 ? `${(bytes / 1000).toFixed(1)} kB` : `${(bytes / 1_000_000).toFixed(1)} MB`;
}

function drained({ waiting, durable, seconds_to_drained }: UplinkStatus["buffer"]): string {
  if (waiting === 0) return "nothing waits";
  if (durable === 0) return "a moment";
  return seconds_to_drained == null ? "not as things go" : `about ${span(seconds_to_drained * 1000)}`;
}

interface PurgeProps {
  gateway: string;
  uplink: string;
  waiting: number;
  items: string;
}

/** Throws away what waits, once its name was typed. */
function Purge({ gateway, uplink, waiting, items }: PurgeProps) {
  const [typed, setTyped] = useState("");
  const queries = useQueryClient();
  const purge = useMutation({
    mutationFn: () =>
      dataOf(api.POST("/api/v1/gateways/{gateway}/uplinks/{uplink}/purge", { params: { path: { gateway, uplink } }, body: { confirm: typed } })),
    onSettled: () => {
      setTyped("");
      return queries.invalidateQueries({ queryKey: bufferQuery(gateway, uplink).queryKey });
    },
  });
  return (
    <>
      {purge.isError ? <span className="text-sm text-alarm">{purge.error.message}</span> : null}
      {purge.data ? <span className="text-sm text-soft">{purge.data.samples.toLocaleString("en")} thrown away</span> : null}
      <Confirm
        title={`Throw away what waits for ${uplink}?`}
        action="Throw away"
        onConfirm={() => purge.mutate()}
        trigger={<Button quiet>Throw away …</Button>}
      >
        <p className="mb-3">
          {waiting.toLocaleString("en")} {items} would never arrive. This cannot be undone, and is kept in the audit trail.
        </p>
        <Field label={`Type ${uplink} to confirm`} value={typed} onChange={(event) => setTyped(event.target.value)} />
      </Confirm>
    </>
  );
}
