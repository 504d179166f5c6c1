import type { DraftView, Forms, ObjectView } from "../../api/client";
import { Button } from "../../components/Form";
import { Panel } from "../../components/Page";
import { useSearch } from "../../components/search";
import { contentOf, listOf, objectsOf } from "../description/edits";
import { ObjectEditor } from "../description/ObjectEditor";
import { shown } from "../description/schema";
import { PointsEditor } from "./PointsEditor";

interface InDraftProps {
  gateway: string;
  draft: DraftView;
  forms: Forms;
  /** Which of the steps before the last. */
  step: number;
  device: ObjectView;
  onStep: (step: number) => void;
  onRenamed: (device: string) => void;
}

const LAST = 4;

/** A step that is gone back to once the device is in the draft: the same things, edited where they are now. */
export function InDraft({ gateway, draft, forms, step, device, onStep, onRenamed }: InDraftProps) {
  const [search, change] = useSearch();
  const link = objectsOf(draft, "link").find((object) => object.name === shown(contentOf(device).link));
  const on = (
    <div className="mt-4 flex gap-2 border-t border-line pt-4">
      {step > 0 ? (
        <Button quiet onClick={() => onStep(step - 1)}>
          Back
        </Button>
      ) : null}
      <Button onClick={() => onStep(step < LAST ? step + 1 : LAST + 1)}>Go on</Button>
    </div>
  );
  const of = { gateway, draft, forms };
  if (step === 0) {
    return (
      <Panel title={`Link ${link?.name ?? ""}`}>
        {link ? <ObjectEditor key={link.name} {...of} of="link" object={link} /> : <p className="text-soft">It is not in the draft any more: choose another one at the device.</p>}
        {on}
      </Panel>
    );
  }
  if (step === 3) {
    return (
      <Panel title={`Points of ${device.name}`}>
        <PointsEditor {...of} device={device} list={listOf(device)} opened={search.get("point")} onOpen={(point) => change({ point })} />
        {on}
      </Panel>
    );
  }
  if (step === LAST) {
    return (
      <Panel title="In the draft">
        <p className="text-soft">
          {device.name} and its points are in the draft. What is changed in the steps before is saved there; the next one runs it.
        </p>
        {on}
      </Panel>
    );
  }
  return (
    <Panel title={`Device ${device.name}`}>
      <ObjectEditor key={device.name} {...of} of="device" object={device} onSaved={(name) => name !== device.name && onRenamed(name)} />
      {on}
    </Panel>
  );
}
