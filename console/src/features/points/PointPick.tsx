import { useQuery } from "@tanstack/react-query";
import { useEffect, useId, useState } from "react";
import { windowQuery } from "../../api/queries";
import { CONTROL } from "../../components/Form";

interface PointPickProps {
  label: string;
  gateway: string;
  /** The one that is chosen, as `GATEWAY/DEVICE/POINT`. */
  id: string | null;
  onChoose: (id: string | null) => void;
}

/** As many as one looks through. */
const MOST = 20;

/** Chooses a point by a part of its name. */
export function PointPick({ label, gateway, id, onChoose }: PointPickProps) {
  const [typed, setTyped] = useState(() => id?.slice(gateway.length + 1) ?? "");
  const list = useId();
  const found = useQuery({ ...windowQuery({ gateway, q: typed, limit: MOST }), placeholderData: (before) => before });
  const paths = found.data?.rows.map((point) => `${point.device}/${point.name}`) ?? [];
  // What is typed is one of them, perhaps before it is known that there is such a one.
  const chosen = typed === "" ? null : paths.includes(typed) ? `${gateway}/${typed}` : id;
  useEffect(() => {
    if (chosen !== id) onChoose(chosen);
  });
  return (
    <>
      <input
        type="search"
        aria-label={label}
        placeholder="Part of its name"
        list={list}
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        className={`${CONTROL} min-w-0 max-w-80`}
      />
      <datalist id={list}>
        {paths.map((path) => (
          <option key={path} value={path} />
        ))}
      </datalist>
    </>
  );
}
