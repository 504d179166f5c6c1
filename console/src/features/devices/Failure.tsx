import { ApiFailure } from "../../api/client";
import { FrameLines } from "../../components/FrameLines";
import { Notice } from "../../components/Notice";

/** Why a trial or a command brought nothing: what is wrong with what was asked, or what went over the line. */
export function Failure({ error }: { error: Error | null }) {
  if (!error) return null;
  const { problems, frames } = error instanceof ApiFailure ? error : { problems: [], frames: [] };
  return (
    <Notice tone="alarm" title={problems.length > 0 ? "This cannot be asked" : error.message}>
      {problems.map((problem) => (
        <p key={problem.message}>
          {problem.message}; expected {problem.expected}
        </p>
      ))}
      {frames.length > 0 ? <FrameLines frames={frames} label="On the line" /> : null}
    </Notice>
  );
}
