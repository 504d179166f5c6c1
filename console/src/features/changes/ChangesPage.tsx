import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { api, dataOf, type DraftView, type Keeping, type Problem, type WaitingLoss } from "../../api/client";
import { checkQuery, differenceQuery } from "../../api/queries";
import { Badge } from "../../components/Badge";
import { Confirm } from "../../components/Confirm";
import { Button, Field } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Panel } from "../../components/Page";
import { count, span, value } from "../../text/format";
import { refresh } from "../description/edits";
import { GatewayPage } from "../gateways/GatewayPage";
import { useMay } from "../session/may";
import { DifferenceView, placeOf } from "./DifferenceView";
import { OutcomePanel } from "./OutcomePanel";

/** What will change? The draft against what runs, what is wrong with it, and the step that makes it run. */
export function ChangesPage() {
  return <GatewayPage title="Changes">{({ gateway, draft }) => <Changes key={gateway} {...{ gateway, draft }} />}</GatewayPage>;
}

function Changes({ gateway, draft }: { gateway: string; draft: DraftView }) {
  const difference = useQuery(differenceQuery(gateway));
  const check = useQuery(checkQuery(gateway));
  const may = useMay("engineer");
  const queries = useQueryClient();
  // The revision before, to return to, as long as this page is open.
  const [activated, setActivated] = useState<{ before: number | null } | null>(null);
  const discard = useMutation({
    mutationFn: () =>
      dataOf(
        api.DELETE("/api/v1/gateways/{gateway}/draft", { params: { path: { gateway }, query: { version: draft.version } } }),
      ),
    onSettled: () => refresh(queries, gateway),
  });
  const error = difference.error ?? check.error ?? discard.error;
  const hasChanges = (difference.data?.objects.length ?? 0) > 0 || difference.data?.reordered === true;
  return (
    <div className="grid items-start gap-4 lg:grid-cols-[minmax(0,3fr)_minmax(18rem,2fr)]">
      <Panel
        title={draft.active ? `The draft against revision ${draft.active}, which runs` : "The draft; nothing was activated yet"}
        beside={
          may && draft.edited ? (
            <Confirm
              title="Throw the edits away?"
              action="Throw away"
              onConfirm={() => discard.mutate()}
              trigger={<Button quiet>Throw the edits away</Button>}
            >
              The draft becomes the same as what runs. The audit trail keeps what is lost.
            </Confirm>
          ) : null
        }
      >
        {error ? <Notice tone="alarm" title={error.message} /> : null}
        {difference.isPending ? <Loading what="what differs" /> : null}
        {difference.data ? <DifferenceView difference={difference.data} gateway={gateway} /> : null}
      </Panel>
      <div className="grid gap-4">
        <Panel title="Check">
          {check.isPending ? <Loading what="what the check says" /> : null}
          {check.data ? <Problems gateway={gateway} draft={draft} problems={check.data.problems} /> : null}
        </Panel>
        {may && hasChanges ? (
          <ActivatePanel
            gateway={gateway}
            version={difference.data?.version ?? draft.version}
            mistakes={check.data?.mistakes ?? 0}
            losses={difference.data?.losses ?? []}
            keeping={difference.data?.keeping ?? []}
            onActivated={() => setActivated({ before: draft.active ?? null })}
          />
        ) : null}
        {activated && !hasChanges ? <OutcomePanel gateway={gateway} before={activated.before} /> : null}
      </div>
    </div>
  );
}

const MOST = 100;

/** What the check says, each with the way to its place. */
export function Problems({ gateway, draft, problems }: { gateway: string; draft: DraftView; problems: Problem[] }) {
  if (problems.length === 0) return <p className="text-soft">No mistakes.</p>;
  const devicesOf = (list: string) => draft.lists.find((known) => known.path === list)?.devices ?? [];
  return (
    <ul className="grid gap-2 text-sm">
      {problems.slice(0, MOST).map((problem) => {
        const { target } = problem;
        const words = `${problem.object ? `${problem.object}: ` : ""}${problem.message}`;
        return (
          <li key={`${words}${problem.field}`} className="grid gap-0.5">
            <span>
              <Badge tone={problem.severity === "mistake" ? "alarm" : "warn"}>{problem.severity}</Badge>
            </span>
            {target ? (
              <Link
                to={placeOf(gateway, { object: target, devices: devicesOf(target.list ?? "") }, problem.field)}
                className="underline hover:text-act"
              >
                {words}
              </Link>
            ) : (
              <span>{words}</span>
            )}
            {problem.expected ? <span className="text-soft">Expected {problem.expected}</span> : null}
          </li>
        );
      })}
      {problems.length > MOST ? <li className="text-soft">… and {problems.length - MOST} more</li> : null}
    </ul>
  );
}

interface ActivatePanelProps {
  gateway: string;
  version: number;
  mistakes: number;
  /** What waits for brokers and has no place in the draft any more. */
  losses?: readonly WaitingLoss[];
  /** For how long uplinks keep what their brokers do not take. */
  keeping?: readonly Keeping[];
  onActivated: () => void;
}

export function ActivatePanel({ gateway, version, mistakes, losses = [], keeping = [], onActivated }: ActivatePanelProps) {
  const [note, setNote] = useState("");
  const [mayDrop, setMayDrop] = useState(false);
  const queries = useQueryClient();
  const activate = useMutation({
    mutationFn: () =>
      dataOf(
        api.POST("/api/v1/gateways/{gateway}/activations", { params: { path: { gateway } }, body: { version, note, drop_waiting: mayDrop } }),
      ),
    onSuccess: onActivated,
    onSettled: () => refresh(queries, gateway),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    activate.mutate();
  };
  return (
    <Panel title="Activate">
      <form onSubmit={submit} className="grid gap-3">
        <Field
          label="Why"
          help="For those who look at the revisions later."
          value={note}
          onChange={(event) => setNote(event.target.value)}
        />
        {losses.length > 0 ? (
          <Notice tone="warn" title="Samples wait that the draft has no place for">
            <ul>
              {losses.map((loss) => (
                <li key={loss.uplink}>
                  {loss.uplink}: {count(loss.samples, "sample")}
                  {loss.perhaps > 0 ? `, and perhaps some of ${loss.perhaps.toLocaleString("en")} in the database` : ""}
                  {loss.is_online ? ", being sent" : ", and its broker is away"}
                </li>
              ))}
            </ul>
            <p className="mt-1">Activating waits up to ten seconds until they are sent, and is refused when they are not.</p>
            <label className="mt-2 flex items-center gap-2">
              <input type="checkbox" checked={mayDrop} onChange={(event) => setMayDrop(event.target.checked)} />
              Throw them away instead
            </label>
          </Notice>
        ) : null}
        {keeping.map((one) => (
          <p key={one.uplink} className={`text-sm ${one.room_ends_first ? "text-warn" : "text-soft"}`}>
            {one.uplink} keeps {span(one.seconds * 1000)} without its broker{one.room_ends_first ? ", then its room ends" : ""}, at{" "}
            {value(one.samples_per_second)} samples a second at the most.
          </p>
        ))}
        {activate.isError ? <Notice tone="alarm" title={activate.error.message} /> : null}
        <Button type="submit" disabled={activate.isPending || mistakes > 0}>
          {activate.isPending ? "Activating …" : "Activate the draft"}
        </Button>
        {mistakes > 0 ? <p className="text-sm text-soft">{count(mistakes, "mistake")} first.</p> : null}
      </form>
    </Panel>
  );
}
