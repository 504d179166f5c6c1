import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Content, dataOf, type DraftView } from "../../api/client";
import { Button } from "../../components/Form";
import { count } from "../../text/format";
import { namesOf } from "../description/edits";
import { ImportList } from "../points/ImportList";
import { Failure } from "./Failure";

interface SunSpecProps {
  gateway: string;
  draft: DraftView;
  link: Content;
  device: Content;
  list: string;
}

/** Asks a device for its SunSpec models, and offers the points that it has. */
export function SunSpec({ gateway, draft, link, device, list }: SunSpecProps) {
  const rate = namesOf(draft).rate[0] ?? "normal";
  const [isTaking, setTaking] = useState(false);
  const offer = useMutation({
    mutationFn: () =>
      dataOf(api.POST("/api/v1/gateways/{gateway}/trials/sunspec", { params: { path: { gateway } }, body: { link, device, rate } })),
  });
  return (
    <div className="grid gap-2" aria-live="polite">
      <Button quiet className="justify-self-start" disabled={offer.isPending} onClick={() => offer.mutate()}>
        {offer.isPending ? "Looking …" : "Look for SunSpec models"}
      </Button>
      {offer.data ? (
        <>
          <ul aria-label="Models" className="grid gap-1 text-sm">
            {offer.data.models.map((model) => (
              <li key={model.address}>
                <b className="font-semibold">{model.id}</b> {model.title ?? "not known here"}{" "}
                <span className="text-soft">
                  at {model.address}, {count(model.points, "point")}
                </span>
              </li>
            ))}
          </ul>
          {isTaking ? (
            <ImportList {...{ gateway, draft, list }} start={offer.data.text} onDone={() => setTaking(false)} />
          ) : (
            <Button className="justify-self-start" onClick={() => setTaking(true)}>
              Look at its points
            </Button>
          )}
        </>
      ) : null}
      <Failure error={offer.error} />
    </div>
  );
}
