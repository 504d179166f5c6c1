import type { ReactNode } from "react";
import { Link } from "react-router";
import type { DraftView, Forms } from "../../api/client";
import { Page } from "../../components/Page";
import { Loading, Notice } from "../../components/Notice";
import { count } from "../../text/format";
import { useOthers } from "../description/presence";
import { useMay } from "../session/may";
import { useDescription, useGateway } from "./current";

interface GatewayPageProps {
  title: string;
  beside?: (gateway: string) => ReactNode;
  children: (of: { gateway: string; draft: DraftView; forms: Forms }) => ReactNode;
}

/** A page about one gateway: which one, what its draft holds, and who else is at it. */
export function GatewayPage({ title, beside, children }: GatewayPageProps) {
  const { gateway, known, choose, gateways } = useGateway();
  const { draft, forms, error } = useDescription(gateway);
  const failed = gateways.error ?? error;
  return (
    <Page
      title={title}
      beside={
        <>
          {known.length > 1 ? (
            <select
              aria-label="Gateway"
              value={gateway}
              onChange={(event) => choose(event.target.value)}
              className="h-9 max-md:h-11 rounded-md border border-line-strong bg-raised px-2"
            >
              {known.map((name) => (
                <option key={name}>{name}</option>
              ))}
            </select>
          ) : (
            <p className="text-soft">{gateway}</p>
          )}
          {draft ? <DraftState draft={draft} /> : null}
          {gateway ? <div className="ml-auto flex flex-wrap items-center gap-2">{beside?.(gateway)}</div> : null}
        </>
      }
    >
      {failed ? <Notice tone="alarm" title={failed.message} /> : null}
      {gateways.isSuccess && known.length === 0 ? (
        <Notice title="There is no gateway yet">
          <Link to="/gateways" className="text-act underline">
            Add one
          </Link>
        </Notice>
      ) : null}
      {!failed && gateway !== "" && !(draft && forms) ? <Loading what={`the draft of ${gateway}`} /> : null}
      {draft && forms ? children({ gateway, draft, forms }) : null}
    </Page>
  );
}

/** Whether the draft differs from what runs, and who else has it open. */
function DraftState({ draft }: { draft: DraftView }) {
  const others = useOthers(draft.gateway);
  const may = useMay("engineer");
  return (
    <div className="flex flex-wrap items-center gap-x-3 text-sm">
      {draft.changes > 0 ? (
        <Link to={`/changes?gateway=${encodeURIComponent(draft.gateway)}`} className="rounded-[3px] bg-warn-ground px-1.5 text-warn">
          {count(draft.changes, "change")} not active{may ? ": look and activate" : ""}
        </Link>
      ) : (
        <span className="text-soft">Nothing changed since revision {draft.active ?? "–"}</span>
      )}
      {others.length > 0 ? (
        <span className="text-soft">
          Also here: {others.map((other) => (other.place ? `${other.person} (${other.place})` : other.person)).join(", ")}
        </span>
      ) : null}
    </div>
  );
}
