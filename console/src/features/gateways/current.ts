import { useQuery } from "@tanstack/react-query";
import { useCallback } from "react";
import { useSearchParams } from "react-router";
import { draftQuery, formsQuery, gatewaysQuery } from "../../api/queries";

const REMEMBERED = "gateway";

/** The gateway that a page is about: the one in the address, the one looked at last, or the first. */
export function useGateway() {
  const [search, setSearch] = useSearchParams();
  const gateways = useQuery(gatewaysQuery);
  const known = gateways.data?.map((gateway) => gateway.name) ?? [];
  const wanted = search.get("gateway") ?? localStorage.getItem(REMEMBERED) ?? "";
  const gateway = known.includes(wanted) ? wanted : (known[0] ?? "");
  const choose = useCallback(
    (name: string) => {
      localStorage.setItem(REMEMBERED, name);
      setSearch({ gateway: name });
    },
    [setSearch],
  );
  return { gateway, known, choose, gateways };
}

/** What every page that edits needs: the draft of the gateway, and what its objects are made of. */
export function useDescription(gateway: string) {
  const draft = useQuery({ ...draftQuery(gateway), enabled: gateway !== "" });
  const forms = useQuery(formsQuery);
  const error = draft.error ?? forms.error;
  return { draft: draft.data, forms: forms.data, error };
}
