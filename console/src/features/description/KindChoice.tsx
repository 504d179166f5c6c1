import type { Forms } from "../../api/client";
import { Choice } from "../../components/Form";

interface KindChoiceProps {
  label: string;
  kinds: Forms["links"];
  word: string;
  onChoose: (word: string) => void;
}

/** Which protocol, or which kind; nothing where there is one only. */
export function KindChoice({ label, kinds, word, onChoose }: KindChoiceProps) {
  if (kinds.length < 2) return null;
  return (
    <Choice label={label} value={word} onChange={(event) => onChoose(event.target.value)}>
      {kinds.map((kind) => (
        <option key={kind.word} value={kind.word}>
          {kind.title}
        </option>
      ))}
    </Choice>
  );
}
