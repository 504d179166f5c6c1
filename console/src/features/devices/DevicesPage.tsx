import { Tabs } from "radix-ui";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { DraftView, Forms, ObjectView } from "../../api/client";
import { Badge } from "../../components/Badge";
import { Button } from "../../components/Form";
import { Notice } from "../../components/Notice";
import { Panel, Split } from "../../components/Page";
import { Pick } from "../../components/Pick";
import { State } from "../../components/State";
import { useLive, useServiceNow } from "../../live/live";
import { count, span } from "../../text/format";
import { contentOf, listOf, objectsOf } from "../description/edits";
import { ObjectEditor } from "../description/ObjectEditor";
import { shown } from "../description/schema";
import { GatewayPage } from "../gateways/GatewayPage";
import { LoopCheckLink } from "../loops/LoopsPage";
import { useMay } from "../session/may";
import { Copies } from "./Copies";
import { DeviceLine } from "./DeviceLine";
import { ReportPreview } from "./ReportPreview";
import { PointsEditor } from "./PointsEditor";
import { partsOf } from "./protocol";

/** Which devices are there, do they answer, and what are their points? */
export function DevicesPage() {
  const [search, setSearch] = useSearchParams();
  const may = useMay("engineer");
  const opened = search.get("open");
  const open = (gateway: string, name: string | null) => setSearch(name === null ? { gateway } : { gateway, open: name });
  return (
    <GatewayPage
      title="Devices"
      beside={(gateway) =>
        may ? (
          <Link
            to={`/devices/add?gateway=${encodeURIComponent(gateway)}`}
            className="inline-flex h-9 max-md:h-11 items-center rounded-md bg-act px-3 font-semibold text-act-ink hover:opacity-90"
          >
            Add a device
          </Link>
        ) : null
      }
    >
      {({ gateway, draft, forms }) => {
        const devices = objectsOf(draft, "device");
        const device = devices.find((object) => object.name === opened);
        return (
          <Split
            list={
              devices.length === 0 ? (
                <Notice title="No device is described">Add one: step by step, each step tried before it is saved.</Notice>
              ) : (
                <ul className="grid gap-2">
                  {devices.map((object) => (
                    <DeviceRow
                      key={object.name}
                      device={object}
                      draft={draft}
                      isOpen={object.name === opened}
                      onOpen={() => open(gateway, object.name)}
                    />
                  ))}
                </ul>
              )
            }
            detail={
              device ? (
                <DeviceDetail key={device.name} {...{ gateway, draft, forms, device }} onOpen={(name) => open(gateway, name)} />
              ) : null
            }
          />
        );
      }}
    </GatewayPage>
  );
}

/** What a device does in the revision that runs. */
export function useDeviceStatus(gateway: string, device: string) {
  const { status } = useLive();
  const links = status?.gateways.find((running) => running.name === gateway)?.links ?? [];
  return links.flatMap((link) => link.devices).find((running) => running.name === device);
}


interface DeviceRowProps {
  device: ObjectView;
  draft: DraftView;
  isOpen: boolean;
  onOpen: () => void;
}

function DeviceRow({ device, draft, isOpen, onOpen }: DeviceRowProps) {
  const content = contentOf(device);
  const status = useDeviceStatus(draft.gateway, device.name);
  const link = objectsOf(draft, "link").find((object) => object.name === content.link);
  const points = draft.lists.find((list) => list.path === listOf(device))?.points ?? 0;
  return (
    <Pick
      isPicked={isOpen}
      onPick={onOpen}
      title={
        <>
          <span className="font-semibold">{shown(content.title) || device.name}</span>
          {status ? <State word={status.state} /> : <span className="text-sm text-faint">not active</span>}
          {device.changed_by ? <Badge tone="warn">changed by {device.changed_by}</Badge> : null}
        </>
      }
    >
      <span className="font-mono text-xs leading-5">{device.name}</span>
      <span>on {shown(content.link)}</span>
      <span>{partsOf(contentOf(link)).place(content)}</span>
      <span>{count(points, "point")}</span>
    </Pick>
  );
}

interface DeviceDetailProps {
  gateway: string;
  draft: DraftView;
  forms: Forms;
  device: ObjectView;
  onOpen: (name: string | null) => void;
}

const TAB =
  "border-b-2 border-transparent px-3 py-2 max-md:min-h-11 text-soft hover:text-ink data-[state=active]:border-act data-[state=active]:font-semibold data-[state=active]:text-ink";

function DeviceDetail({ gateway, draft, forms, device, onOpen }: DeviceDetailProps) {
  const [search, setSearch] = useSearchParams();
  const now = useServiceNow();
  const status = useDeviceStatus(gateway, device.name);
  const tab = search.get("tab") ?? "points";
  const link = objectsOf(draft, "link").find((object) => object.name === contentOf(device).link);
  const change = (changes: Record<string, string>) => setSearch({ gateway, open: device.name, ...changes });
  const may = useMay("engineer");
  const [isCopying, setCopying] = useState(false);
  const [added, setAdded] = useState(0);
  return (
    <Panel
      title={`Device ${device.name}`}
      beside={
        <>
          <Link to={`/points?device=${encodeURIComponent(device.name)}`} className="inline-flex items-center text-sm text-act underline max-md:min-h-11">
            Live values
          </Link>
          {may ? (
            <Button quiet onClick={() => setCopying(!isCopying)}>
              Make copies
            </Button>
          ) : null}
          {status ? <LoopCheckLink gateway={gateway} device={device.name} /> : null}
          <Button quiet onClick={() => onOpen(null)}>
            Close
          </Button>
        </>
      }
    >
      {status ? (
        <p className="mb-3 flex flex-wrap gap-x-3 text-sm text-soft">
          <State word={status.state} />
          <span>for {span(now - status.since)}</span>
          <span>
            {count(status.points, "point")} in {count(status.requests, "request")}
          </span>
          {status.last_error ? <span>last error: {status.last_error}</span> : null}
        </p>
      ) : null}
      {isCopying ? (
        <Copies
          {...{ gateway, draft, forms, device }}
          list={listOf(device)}
          onDone={(many) => {
            setCopying(false);
            setAdded(many);
          }}
        />
      ) : added > 0 ? (
        <div className="mb-4">
          <Notice title={`${count(added, "device")} added to the draft`}>
            <Link to={`/changes?gateway=${encodeURIComponent(gateway)}`} className="text-act underline">
              Look at what will change, and activate it
            </Link>
          </Notice>
        </div>
      ) : null}
      <Tabs.Root value={tab} onValueChange={(to) => change({ tab: to })}>
        <Tabs.List aria-label="Parts of the device" className="mb-4 flex border-b border-line">
          <Tabs.Trigger value="points" className={TAB}>
            Points
          </Tabs.Trigger>
          <Tabs.Trigger value="line" className={TAB}>
            Line
          </Tabs.Trigger>
          <Tabs.Trigger value="settings" className={TAB}>
            Settings
          </Tabs.Trigger>
        </Tabs.List>
        <Tabs.Content value="points">
          <PointsEditor
            {...{ gateway, draft, forms, device }}
            list={listOf(device)}
            opened={search.get("point")}
            onOpen={(point) => change(point === null ? { tab: "points" } : { tab: "points", point })}
          />
          {status === undefined || !may ? null : (
            <div className="mt-4 border-t border-line pt-4">
              <ReportPreview gateway={gateway} device={device.name} />
            </div>
          )}
        </Tabs.Content>
        <Tabs.Content value="line">
          <DeviceLine
            {...{ gateway, draft, forms }}
            device={device.name}
            link={contentOf(link)}
            content={contentOf(device)}
            isRunning={status !== undefined}
          />
        </Tabs.Content>
        <Tabs.Content value="settings">
          <ObjectEditor
            {...{ gateway, draft, forms }}
            of="device"
            object={device}
            onSaved={(name) => setSearch({ gateway, open: name, tab: "settings" })}
            onRemoved={() => onOpen(null)}
          />
        </Tabs.Content>
      </Tabs.Root>
    </Panel>
  );
}
