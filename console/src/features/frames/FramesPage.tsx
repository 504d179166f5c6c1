import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { FrameView, LinkStatus } from "../../api/client";
import { framesQuery } from "../../api/queries";
import { Confirm } from "../../components/Confirm";
import { Button, CONTROL } from "../../components/Form";
import { FrameLines } from "../../components/FrameLines";
import { Loading, Notice } from "../../components/Notice";
import { Page } from "../../components/Page";
import { useSearch } from "../../components/search";
import { useLive } from "../../live/live";
import { count } from "../../text/format";
import { useMay } from "../session/may";

/** More than one looks through at a time; the file has all of them. */
const SHOWN = 400;

/** What goes over the line? The newest frames of a link, decoded. */
export function FramesPage() {
  const [search, change] = useSearch();
  const { status } = useLive();
  const links = (status?.gateways ?? []).flatMap((gateway) => gateway.links.map((link) => ({ gateway: gateway.name, link })));
  const wanted = links.find((known) => known.gateway === search.get("gateway") && known.link.name === search.get("link"));
  const chosen = wanted ?? links[0];
  if (!status) {
    return (
      <Page title="Frames">
        <Loading what="links" />
      </Page>
    );
  }
  if (!chosen) {
    return (
      <Page title="Frames">
        <Notice title="No link runs">What goes over a link is recorded as soon as a revision with links is active.</Notice>
      </Page>
    );
  }
  const { gateway, link } = chosen;
  const device = search.get("device");
  const errors = search.get("errors") === "1";
  return (
    <Page
      title="Frames"
      beside={
        <div className="flex flex-1 flex-wrap items-center gap-2">
          <select
            aria-label="Link"
            value={`${gateway}/${link.name}`}
            onChange={(event) => {
              const to = links.find((known) => `${known.gateway}/${known.link.name}` === event.target.value);
              if (to) change({ gateway: to.gateway, link: to.link.name, device: null });
            }}
            className={`${CONTROL} max-w-56`}
          >
            {links.map((known) => (
              <option key={`${known.gateway}/${known.link.name}`} value={`${known.gateway}/${known.link.name}`}>
                {known.link.name}
              </option>
            ))}
          </select>
          <select
            aria-label="Device"
            value={device ?? ""}
            onChange={(event) => change({ gateway, link: link.name, device: event.target.value || null })}
            className={`${CONTROL} max-w-56`}
          >
            <option value="">all devices</option>
            {link.devices.map((known) => (
              <option key={known.name}>{known.name}</option>
            ))}
          </select>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={errors}
              onChange={(event) => change({ gateway, link: link.name, errors: event.target.checked ? "1" : null })}
              className="size-4 accent-(--act)"
            />
            Only what is wrong
          </label>
          <Save gateway={gateway} link={link} />
        </div>
      }
    >
      <Recording key={`${gateway}/${link.name}/${device}/${errors}`} {...{ gateway, device, errors }} link={link.name} />
    </Page>
  );
}

/** The recording as a file. What was secured on its way is saved by engineers only, who are told so. */
function Save({ gateway, link }: { gateway: string; link: LinkStatus }) {
  const mayExpose = useMay("engineer");
  const file = `/api/v1/gateways/${encodeURIComponent(gateway)}/links/${encodeURIComponent(link.name)}/frames.pcapng`;
  const look = "ml-auto text-sm text-act underline";
  if (!link.secured) {
    return (
      <a href={file} download={`${link.name}.pcapng`} className={look}>
        Save as pcapng
      </a>
    );
  }
  if (!mayExpose) return null;
  const trigger = (
    <button type="button" className={look}>
      Save as pcapng
    </button>
  );
  return (
    <Confirm title="Save it for everybody to read?" action="Save it" trigger={trigger} onConfirm={() => location.assign(`${file}?in-the-clear=true`)}>
      What {link.name} says is secured on its way. In the file it stands as it was before: values and names for whoever has the file. Passwords,
      keys and tokens are left out.
    </Confirm>
  );
}

interface RecordingProps {
  gateway: string;
  link: string;
  device: string | null;
  errors: boolean;
}

function Recording({ gateway, link, device, errors }: RecordingProps) {
  const [isPaused, setPaused] = useState(false);
  const query = useQuery({ ...framesQuery(gateway, link, device, errors), refetchInterval: isPaused ? false : 1000 });
  // While paused, what was on the page stays, whatever is asked meanwhile.
  const [held, setHeld] = useState<FrameView[]>([]);
  const end = useRef<HTMLDivElement>(null);
  const frames = isPaused ? held : (query.data ?? []).slice(-SHOWN);
  const newest = frames.at(-1)?.number;
  useEffect(() => {
    if (!isPaused) end.current?.scrollIntoView?.({ block: "nearest" });
  }, [newest, isPaused]);
  if (query.isPending) return <Loading what="frames" />;
  if (query.isError && !query.data) return <Notice tone="alarm" title={query.error.message} />;
  return (
    <section aria-label="Recording" className="flex min-h-0 flex-1 flex-col rounded-lg border border-line bg-surface">
      <header className="flex flex-wrap items-center gap-3 border-b border-line px-3 py-2 text-sm text-soft">
        <Button
          quiet
          onClick={() => {
            setHeld(frames);
            setPaused(!isPaused);
          }}
        >
          {isPaused ? "Go on" : "Pause"}
        </Button>
        <p role="status">{isPaused ? "Paused" : "Live"}: the last {count(frames.length, "frame")}, the newest below.</p>
      </header>
      {frames.length === 0 ? (
        <p className="p-4 text-soft">{errors ? "Nothing wrong is recorded." : "Nothing is recorded yet."}</p>
      ) : (
        <div role="region" aria-label="What went over the link" tabIndex={0} className="min-h-0 flex-1 overflow-auto focus-visible:-outline-offset-2">
          <FrameLines frames={frames} label="Frames" />
          <div ref={end} />
        </div>
      )}
    </section>
  );
}
