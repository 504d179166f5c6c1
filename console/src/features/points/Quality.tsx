import type { ReadingView } from "../../api/client";
import { Badge } from "../../components/Badge";
import { useLiveKind } from "../../live/live";

/** A quality with its reason in words. */
export function Quality({ reading }: { reading: Pick<ReadingView, "quality" | "reason"> }) {
  const kind = useLiveKind();
  if (kind === "lost") return <Badge tone="plain">was {reading.quality}</Badge>;
  const tone = reading.quality === "good" ? "plain" : reading.quality === "bad" ? "alarm" : "warn";
  return (
    <Badge tone={tone}>
      {reading.quality}
      {reading.reason ? `: ${reading.reason}` : ""}
    </Badge>
  );
}
