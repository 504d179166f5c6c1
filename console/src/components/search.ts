import { useSearchParams } from "react-router";

/** The search of the address, and what changes some of its keys in place; an empty value takes the key away. */
export function useSearch(): [URLSearchParams, (changes: Record<string, string | null>) => void] {
  const [search, setSearch] = useSearchParams();
  const change = (changes: Record<string, string | null>) =>
    setSearch(
      (before) => {
        const after = new URLSearchParams(before);
        for (const [key, to] of Object.entries(changes)) {
          if (to) after.set(key, to);
          else after.delete(key);
        }
        return after;
      },
      { replace: true },
    );
  return [search, change];
}
