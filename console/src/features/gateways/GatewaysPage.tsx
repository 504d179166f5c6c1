import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, ApiFailure, type Content, dataOf, type DraftView, type Forms, type GatewayView, type ObjectClass } from "../../api/client";
import { gatewaysQuery } from "../../api/queries";
import { Badge } from "../../components/Badge";
import { Confirm } from "../../components/Confirm";
import { Button, Field } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Page, Panel, Split } from "../../components/Page";
import { Pick } from "../../components/Pick";
import { contentOf, objectsOf } from "../description/edits";
import { KindChoice } from "../description/KindChoice";
import { ObjectEditor } from "../description/ObjectEditor";
import { shown } from "../description/schema";
import { useMay } from "../session/may";
import { useDescription } from "./current";
import { CertificateRequest } from "./CertificateRequest";
import { TryBroker } from "./TryBroker";
import { TryMessages } from "./TryMessages";

/** Which gateways are there, and what are their names, rates and uplinks? */
export function GatewaysPage() {
  const [search, setSearch] = useSearchParams();
  const gateways = useQuery(gatewaysQuery);
  const may = useMay("engineer");
  const opened = search.get("gateway");
  const open = gateways.data?.find((gateway) => gateway.name === opened);
  return (
    <Page title="Gateways">
      {gateways.isPending ? <Loading what="gateways" /> : null}
      {gateways.isError ? <Notice tone="alarm" title={gateways.error.message} /> : null}
      <Split
        list={
          <div className="grid gap-4">
            <ul className="grid gap-2">
              {gateways.data?.map((gateway) => (
                <Pick
                  key={gateway.name}
                  isPicked={gateway.name === opened}
                  onPick={() => setSearch({ gateway: gateway.name })}
                  title={<span className="font-semibold">{gateway.title || gateway.name}</span>}
                >
                  <GatewayFacts gateway={gateway} />
                </Pick>
              ))}
            </ul>
            {may ? <AddGateway onAdded={(name) => setSearch({ gateway: name })} /> : null}
          </div>
        }
        detail={open ? <GatewayDetail key={open.name} gateway={open} onClose={() => setSearch({})} /> : null}
      />
    </Page>
  );
}

function GatewayFacts({ gateway }: { gateway: GatewayView }) {
  return (
    <>
      <span className="font-mono text-xs leading-5">{gateway.name}</span>
      <span>{gateway.active ? `revision ${gateway.active}` : "never activated"}</span>
      {gateway.problem ? <Badge tone="alarm">does not run</Badge> : gateway.running ? <span>running</span> : null}
      {gateway.edited ? <Badge tone="warn">draft edited by {gateway.changed_by}</Badge> : null}
    </>
  );
}

function AddGateway({ onAdded }: { onAdded: (name: string) => void }) {
  const [name, setName] = useState("");
  const queries = useQueryClient();
  const add = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/gateways", { body: { name } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: gatewaysQuery.queryKey });
      setName("");
      onAdded(name);
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate();
  };
  const fault = add.error instanceof ApiFailure ? add.error.problems[0] : undefined;
  return (
    <form onSubmit={submit} className="flex items-end gap-2">
      <Field
        label="Name of a new gateway"
        required
        value={name}
        onChange={(event) => setName(event.target.value)}
        fault={fault ? `${fault.message}; expected ${fault.expected}` : add.error?.message}
      />
      <Button quiet type="submit" disabled={add.isPending} className="h-10 shrink-0">
        Add
      </Button>
    </form>
  );
}

function GatewayDetail({ gateway, onClose }: { gateway: GatewayView; onClose: () => void }) {
  const { draft, forms, error } = useDescription(gateway.name);
  const may = useMay("engineer");
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: () => dataOf(api.DELETE("/api/v1/gateways/{gateway}", { params: { path: { gateway: gateway.name } } })),
    onSuccess: async () => {
      onClose();
      await queries.invalidateQueries({ queryKey: gatewaysQuery.queryKey });
    },
  });
  if (error) return <Notice tone="alarm" title={error.message} />;
  if (!draft || !forms) return <Loading what={`the draft of ${gateway.name}`} />;
  const own = objectsOf(draft, "gateway")[0];
  return (
    <div className="grid gap-4">
      {gateway.problem ? <Notice tone="alarm" title={gateway.problem} /> : null}
      <Panel
        title={`Gateway ${gateway.name}`}
        beside={
          <>
            <Jump to="links" gateway={gateway.name} />
            <Jump to="devices" gateway={gateway.name} />
            <Jump to="changes" gateway={gateway.name} />
            <Jump to="revisions" gateway={gateway.name} />
            <Button quiet className="lg:hidden" onClick={onClose}>
              Close
            </Button>
          </>
        }
      >
        <ObjectEditor gateway={gateway.name} draft={draft} forms={forms} of="gateway" object={own} />
      </Panel>
      <Objects gateway={gateway.name} draft={draft} forms={forms} of="rate" title="Rates" />
      <Objects gateway={gateway.name} draft={draft} forms={forms} of="uplink" title="Uplinks" />
      {may ? (
        <Confirm
          title={`Remove gateway ${gateway.name}?`}
          action="Stop and remove"
          onConfirm={() => remove.mutate()}
          trigger={
            <Button quiet className="justify-self-start">
              Remove this gateway
            </Button>
          }
        >
          It stops polling and publishing at once. Its draft is lost; its revisions stay on record.
        </Confirm>
      ) : null}
      {remove.isError ? <Notice tone="alarm" title={remove.error.message} /> : null}
    </div>
  );
}

function Jump({ to, gateway }: { to: string; gateway: string }) {
  return (
    <Link to={`/${to}?gateway=${encodeURIComponent(gateway)}`} className="text-sm text-act underline">
      {to.charAt(0).toUpperCase() + to.slice(1)}
    </Link>
  );
}

interface ObjectsProps {
  gateway: string;
  draft: DraftView;
  forms: Forms;
  of: Extract<ObjectClass, "rate" | "uplink">;
  title: string;
}

/** The few objects of a class, each opened in place. */
function Objects({ gateway, draft, forms, of, title }: ObjectsProps) {
  const [search, setSearch] = useSearchParams();
  const may = useMay("engineer");
  const opened = search.get("open");
  const key = (name: string) => `${of}:${name}`;
  const open = (name: string | null) => setSearch(name === null ? { gateway } : { gateway, open: key(name) });
  const [kind, setKind] = useState(forms.uplinks[0]?.word ?? "");
  const extra = (content: Content, change: (content: Content) => void) =>
    may && of === "uplink" ? (
      <>
        {content.kind === "json" ? <TryMessages gateway={gateway} uplink={content} /> : null}
        <CertificateRequest uplink={content} onKey={(key) => change({ ...content, key })} />
        <TryBroker gateway={gateway} uplink={content} />
      </>
    ) : null;
  return (
    <Panel
      title={title}
      beside={
        may ? (
          <Button quiet onClick={() => open("")}>
            Add {of === "rate" ? "a rate" : "an uplink"}
          </Button>
        ) : null
      }
    >
      <ul className="grid divide-y divide-line">
        {objectsOf(draft, of).map((object) => {
          const content = contentOf(object);
          const isOpen = opened === key(object.name);
          return (
            <li key={object.name} className="py-2">
              <button
                type="button"
                aria-expanded={isOpen}
                onClick={() => open(isOpen ? null : object.name)}
                className="flex w-full flex-wrap gap-x-4 text-left hover:text-act"
              >
                <span className="min-w-24 font-medium">{object.name}</span>
                <span className="text-soft">{of === "rate" ? shown(content.period) : `${shown(content.kind)} · ${shown(content.url)}`}</span>
                {object.changed_by ? <Badge tone="warn">changed by {object.changed_by}</Badge> : null}
              </button>
              {isOpen ? (
                <div className="mt-3">
                  <ObjectEditor
                    gateway={gateway}
                    draft={draft}
                    forms={forms}
                    of={of}
                    object={object}
                    onSaved={(name) => open(name)}
                    onRemoved={() => open(null)}
                    extra={extra}
                  />
                </div>
              ) : null}
            </li>
          );
        })}
        {objectsOf(draft, of).length === 0 ? <li className="py-2 text-soft">None yet.</li> : null}
      </ul>
      {opened === key("") ? (
        <div className="mt-3 grid gap-4 border-t border-line pt-4">
          {of === "uplink" ? <KindChoice label="Kind" kinds={forms.uplinks} word={kind} onChoose={setKind} /> : null}
          <ObjectEditor
            key={kind}
            gateway={gateway}
            draft={draft}
            forms={forms}
            of={of}
            object={undefined}
            start={of === "uplink" ? { kind } : {}}
            extra={extra}
            onSaved={() => open(null)}
          />
        </div>
      ) : null}
    </Panel>
  );
}
