import { useSearchParams } from "react-router";
import type { Content, DraftView, Forms, ObjectView } from "../../api/client";
import { Badge } from "../../components/Badge";
import { Button } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { Panel, Split } from "../../components/Page";
import { Pick } from "../../components/Pick";
import { State } from "../../components/State";
import { useLive } from "../../live/live";
import { count } from "../../text/format";
import { contentOf, objectsOf, useEdits } from "../description/edits";
import { KindChoice } from "../description/KindChoice";
import { ObjectEditor } from "../description/ObjectEditor";
import { shown, targetOf } from "../description/schema";
import { GatewayPage } from "../gateways/GatewayPage";
import { withoutTrust } from "../offers/offers";
import { OffersPanel } from "../offers/OffersPanel";
import { useMay } from "../session/may";
import { LinkCounts } from "./LinkCounts";

/** How is the field reached? The links of a gateway: what they are, and what they do right now. */
export function LinksPage() {
  const [search, setSearch] = useSearchParams();
  const may = useMay("engineer");
  const opened = search.get("open");
  const open = (gateway: string, name: string | null) => setSearch(name === null ? { gateway } : { gateway, open: name });
  return (
    <GatewayPage
      title="Links"
      beside={(gateway) => (may ? <Button onClick={() => open(gateway, "")}>Add a link</Button> : null)}
    >
      {({ gateway, draft, forms }) => {
        const links = objectsOf(draft, "link");
        const link = links.find((object) => object.name === opened);
        return (
          <Split
            list={
              links.length === 0 ? (
                <Notice title="No link is described">A link is one way to the field, such as the address of a device or a serial port.</Notice>
              ) : (
                <ul className="grid gap-2">
                  {links.map((object) => (
                    <LinkRow
                      key={object.name}
                      link={object}
                      draft={draft}
                      isOpen={object.name === opened}
                      onOpen={() => open(gateway, object.name)}
                    />
                  ))}
                </ul>
              )
            }
            detail={
              opened === null || (opened !== "" && !link) ? null : (
                <LinkDetail
                  key={opened}
                  {...{ gateway, draft, forms }}
                  link={link}
                  onOpen={(name) => open(gateway, name)}
                />
              )
            }
          />
        );
      }}
    </GatewayPage>
  );
}

/** What a link does in the revision that runs. */
export function useLinkStatus(gateway: string, link: string) {
  const { status } = useLive();
  return status?.gateways.find((running) => running.name === gateway)?.links.find((running) => running.name === link);
}

interface LinkRowProps {
  link: ObjectView;
  draft: DraftView;
  isOpen: boolean;
  onOpen: () => void;
}

function LinkRow({ link, draft, isOpen, onOpen }: LinkRowProps) {
  const content = contentOf(link);
  const status = useLinkStatus(draft.gateway, link.name);
  const devices = objectsOf(draft, "device").filter((device) => contentOf(device).link === link.name).length;
  return (
    <Pick
      isPicked={isOpen}
      onPick={onOpen}
      title={
        <>
          <span className="font-semibold">{shown(content.title) || link.name}</span>
          {status ? <State word={status.state} /> : <span className="text-sm text-faint">not active</span>}
          {link.changed_by ? <Badge tone="warn">changed by {link.changed_by}</Badge> : null}
        </>
      }
    >
      <span>{shown(content.protocol)}</span>
      <span className="font-mono text-xs leading-5">
        {targetOf(content)}
        {content.port ? `:${shown(content.port)}` : ""}
      </span>
      <span>{count(devices, "device")}</span>
    </Pick>
  );
}

interface LinkDetailProps {
  gateway: string;
  draft: DraftView;
  forms: Forms;
  link: ObjectView | undefined;
  onOpen: (name: string | null) => void;
}

function LinkDetail({ gateway, draft, forms, link, onOpen }: LinkDetailProps) {
  const status = useLinkStatus(gateway, link?.name ?? "");
  const [search, setSearch] = useSearchParams();
  const may = useMay("engineer");
  const protocol = search.get("protocol") ?? forms.links[0]?.word ?? "";
  const kind = forms.links.find((known) => known.word === contentOf(link).protocol);
  const ofLink = kind?.sources.filter((source) => !source.of_device) ?? [];
  const edits = useEdits(gateway);
  const take = (keys: Content) => {
    if (link) edits.mutate([{ object: { class: "link", name: link.name }, version: link.version, content: { ...withoutTrust(contentOf(link)), ...keys } }]);
  };
  return (
    <Panel
      title={link ? `Link ${link.name}` : "A new link"}
      beside={
        <Button quiet onClick={() => onOpen(null)}>
          Close
        </Button>
      }
    >
      {status?.last_error && status.state !== "up" ? (
        <div className="mb-4">
          <Notice tone="alarm" title={status.last_error} />
        </div>
      ) : null}
      {link === undefined ? (
        <div className="mb-4">
          <KindChoice
            label="Protocol"
            kinds={forms.links}
            word={protocol}
            onChoose={(word) => setSearch({ gateway, open: "", protocol: word })}
          />
        </div>
      ) : null}
      <ObjectEditor
        {...{ gateway, draft, forms }}
        of="link"
        object={link}
        start={{ protocol }}
        onSaved={onOpen}
        onRemoved={() => onOpen(null)}
      />
      {link && status ? (
        <div className="mt-6 border-t border-line pt-4">
          <h3 className="mb-3 font-semibold">What it does</h3>
          <LinkCounts gateway={gateway} link={link.name} />
        </div>
      ) : null}
      {link && may && ofLink.length > 0 ? (
        <div className="mt-6 grid gap-2 border-t border-line pt-4">
          <h3 className="font-semibold">Who is there?</h3>
          <OffersPanel {...{ gateway, draft }} sources={ofLink} link={contentOf(link)} targets={{ devices: [] }} onWay={take} />
          {edits.isError ? <Notice tone="alarm" title={edits.error.message} /> : null}
        </div>
      ) : null}
    </Panel>
  );
}
