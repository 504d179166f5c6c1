import type { Content, DraftView, Forms } from "../../api/client";
import { contentOf, kindOf, objectsOf } from "../description/edits";
import { OffersPanel } from "../offers/OffersPanel";

interface WhatItHasProps {
  gateway: string;
  draft: DraftView;
  forms: Forms;
  device: string;
  /** The link and the device as the draft has them. */
  link: Content;
  content: Content;
}

/** What a device of the draft tells of itself, for its own list and those of devices that are alike. */
export function WhatItHas({ gateway, draft, forms, device, link, content }: WhatItHasProps) {
  const kind = kindOf(forms, draft, content);
  const sources = kind?.sources.filter((source) => source.of_device) ?? [];
  // Devices of the same protocol can have the same points.
  const others = objectsOf(draft, "device").filter((other) => other.name !== device);
  const alike = others.filter((other) => kindOf(forms, draft, contentOf(other))?.protocol === kind?.protocol).map((other) => other.name);
  return <OffersPanel {...{ gateway, draft, sources, link }} device={content} targets={{ devices: [device, ...alike] }} />;
}
