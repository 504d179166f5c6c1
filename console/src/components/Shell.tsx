import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { NavLink } from "react-router";
import { api, dataOf, type SignedIn } from "../api/client";
import { sessionQuery } from "../api/queries";
import { useLive } from "../live/live";
import { Notice } from "./Notice";

const PAGES = [
  { to: "/", label: "Overview", icon: "M3 12h5l4-6 4 12 2-6h3" },
  { to: "/points", label: "Points", icon: "M4 6h16M4 12h16M4 18h10" },
  { to: "/api-reference", label: "API", icon: "M8 6 3 12l5 6M16 6l5 6-5 6" },
] as const;

/** Navigation around every page: a rail at the side, a bar at the bottom of a phone. */
export function Shell({ who, children }: { who: SignedIn; children: ReactNode }) {
  const [isOpen, setOpen] = useState(false);
  return (
    <div className="flex h-full flex-col-reverse md:flex-row">
      <nav
        aria-label="Pages"
        className="flex shrink-0 items-stretch border-line bg-surface max-md:border-t md:w-40 md:flex-col md:border-r md:p-3"
      >
        <p className="mb-6 flex items-center gap-2 px-2 font-semibold max-md:hidden">
          <img src="/mark.svg" alt="" className="size-5" /> Interlex
        </p>
        {PAGES.map((page) => (
          <NavLink
            key={page.to}
            to={page.to}
            end
            className="flex items-center gap-2 rounded-md px-2 py-2 text-soft hover:text-ink aria-[current=page]:bg-select aria-[current=page]:font-semibold aria-[current=page]:text-ink max-md:flex-1 max-md:flex-col max-md:justify-center max-md:gap-0.5 max-md:rounded-none max-md:text-xs"
          >
            <svg
              aria-hidden="true"
              viewBox="0 0 24 24"
              className="size-4 fill-none stroke-current"
              strokeWidth="2"
              strokeLinecap="round"
              strokeLinejoin="round"
            >
              <path d={page.icon} />
            </svg>
            {page.label}
          </NavLink>
        ))}
        <button
          type="button"
          aria-expanded={isOpen}
          onClick={() => setOpen(!isOpen)}
          className="flex flex-1 flex-col items-center gap-0.5 py-2 text-xs text-soft md:hidden"
        >
          <svg aria-hidden="true" viewBox="0 0 24 24" className="size-4 fill-current">
            <circle cx="5" cy="12" r="2" />
            <circle cx="12" cy="12" r="2" />
            <circle cx="19" cy="12" r="2" />
          </svg>
          More
        </button>
        <div
          className={`mt-auto grid gap-2 px-2 text-sm text-soft max-md:absolute max-md:right-2 max-md:bottom-16 max-md:z-20 max-md:w-44 max-md:rounded-md max-md:border max-md:border-line-strong max-md:bg-raised max-md:p-3 ${isOpen ? "" : "max-md:hidden"}`}
        >
          <ThemeSwitch />
          <Who who={who} />
        </div>
      </nav>
      <div className="flex min-h-0 min-w-0 flex-1 flex-col">
        <Warnings />
        {children}
      </div>
    </div>
  );
}

/** What concerns every page: the stream to this browser, and the database. */
function Warnings() {
  const { kind, status } = useLive();
  const isAway = status !== null && !status.database.up;
  if (kind !== "lost" && !isAway) return null;
  return (
    <div className="grid gap-2 p-4 pb-0">
      {kind === "lost" ? (
        <Notice tone="alarm" title="The service does not answer">
          What is shown is the last that was known. The console goes on trying.
        </Notice>
      ) : null}
      {isAway ? (
        <Notice tone="warn" title="The database is away">
          Polling and publishing go on; nothing can be changed until it is back. {status.database.last_error}
        </Notice>
      ) : null}
    </div>
  );
}

type Theme = "light" | "dark";

function storedTheme(): Theme {
  const stored = localStorage.getItem("theme");
  if (stored === "light" || stored === "dark") return stored;
  return window.matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

export function useTheme(): [Theme, (theme: Theme) => void] {
  const [theme, setTheme] = useState(storedTheme);
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
  }, [theme]);
  const choose = (chosen: Theme) => {
    localStorage.setItem("theme", chosen);
    setTheme(chosen);
  };
  return [theme, choose];
}

function ThemeSwitch() {
  const [theme, setTheme] = useTheme();
  const other = theme === "dark" ? "light" : "dark";
  return (
    <button type="button" onClick={() => setTheme(other)} className="text-left hover:text-ink">
      {other === "dark" ? "Dark" : "Light"} colours
    </button>
  );
}

function Who({ who }: { who: SignedIn }) {
  const queries = useQueryClient();
  const signOut = useMutation({
    mutationFn: () => dataOf(api.DELETE("/api/v1/session")),
    onSettled: () => queries.setQueryData(sessionQuery.queryKey, null),
  });
  return (
    <div className="border-t border-line pt-2">
      <p className="truncate font-medium text-ink">{who.name}</p>
      <p className="text-xs text-faint">{who.role}</p>
      <button type="button" onClick={() => signOut.mutate()} className="mt-1 hover:text-ink">
        Sign out
      </button>
    </div>
  );
}
