import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { NavLink, useLocation, useNavigate } from "react-router";
import { api, dataOf, type SignedIn } from "../api/client";
import { sessionQuery } from "../api/queries";
import { forgetWho, includes, type Role } from "../features/session/may";
import { useLive } from "../live/live";
import { Notice } from "./Notice";

interface NavPage {
  to: string;
  label: string;
  icon: string;
  /** Whether it has a place of its own in the bar of a phone. */
  isMain?: boolean;
  needs?: Role;
}

const GROUPS: { title: string; pages: NavPage[] }[] = [
  {
    title: "Watch",
    pages: [
      { to: "/", label: "Overview", icon: "M3 12h5l4-6 4 12 2-6h3", isMain: true },
      { to: "/points", label: "Points", icon: "M4 6h16M4 12h16M4 18h10", isMain: true },
      { to: "/events", label: "Events", icon: "M5 4v16M9 7h10M9 12h7M9 17h9" },
      { to: "/frames", label: "Frames", icon: "M3 15h3V8h4v9h4V9h4v6h3" },
      { to: "/buffer", label: "Buffer", icon: "M5 5h14v14H5zM5 14h14M8 17h.01" },
      { to: "/loop-checks", label: "Loop checks", icon: "M5 12l4 4 10-10M4 20h16" },
      { to: "/outages", label: "Outages", icon: "M4 12h4M16 12h4M9 8l6 8M15 8l-6 8" },
      { to: "/tap", label: "Tap", icon: "M4 8h9v4a3 3 0 0 0 6 0V8M8 8V5M12 19v2" },
    ],
  },
  {
    title: "Describe",
    pages: [
      { to: "/gateways", label: "Gateways", icon: "M4 5h16v6H4zM4 15h16v4H4zM8 8h.01M8 17h.01" },
      { to: "/links", label: "Links", icon: "M9 15l6-6M8 9H6a4 4 0 0 0 0 8h2M16 7h2a4 4 0 0 1 0 8h-2" },
      { to: "/devices", label: "Devices", icon: "M6 4h12v16H6zM9 8h6M9 12h6M10 16h4", isMain: true },
      { to: "/models", label: "Models", icon: "M4 8l8-4 8 4-8 4zM4 12l8 4 8-4M4 16l8 4 8-4" },
      { to: "/changes", label: "Changes", icon: "M4 7h11l-3-3M20 17H9l3 3", isMain: true },
      { to: "/revisions", label: "Revisions", icon: "M4 12a8 8 0 1 0 3-6.2M4 4v4h4M12 8v4l3 2" },
    ],
  },
  {
    title: "Keep",
    pages: [
      { to: "/people", label: "People", icon: "M9 11a3.5 3.5 0 1 0 0-7 3.5 3.5 0 0 0 0 7zM3 20c0-4 3-6 6-6s6 2 6 6M16 5a3 3 0 0 1 0 6M18 14c2 1 3 3 3 6" },
      { to: "/audit", label: "Audit", icon: "M6 3h9l4 4v14H6zM9 12h7M9 16h7M9 8h3", needs: "engineer" },
      { to: "/api-reference", label: "API", icon: "M8 6 3 12l5 6M16 6l5 6-5 6" },
    ],
  },
];

const ITEM =
  "flex items-center gap-2 rounded-md px-2 py-1.5 text-soft hover:text-ink aria-[current=page]:bg-select aria-[current=page]:font-semibold aria-[current=page]:text-ink";
const IN_BAR = "max-md:flex-1 max-md:flex-col max-md:justify-center max-md:gap-0.5 max-md:rounded-none max-md:py-2 max-md:text-xs";

/** Navigation around every page: a rail at the side, a bar at the bottom of a phone. */
export function Shell({ who, children }: { who: SignedIn; children: ReactNode }) {
  const [isOpen, setOpen] = useState(false);
  const { pathname } = useLocation();
  useEffect(() => setOpen(false), [pathname]);
  const groups = GROUPS.map((group) => ({
    ...group,
    pages: group.pages.filter((page) => !page.needs || includes(who.role, page.needs)),
  }));
  return (
    <div className="flex h-full flex-col-reverse md:flex-row">
      <a href="#content" className="sr-only z-40 rounded-md bg-act px-3 py-2 text-act-ink focus:not-sr-only focus:absolute focus:top-2 focus:left-2">
        Skip to the page
      </a>
      <nav
        aria-label="Pages"
        className="flex shrink-0 items-stretch border-line bg-surface max-md:border-t md:w-44 md:flex-col md:overflow-y-auto md:border-r md:p-3"
      >
        <p className="mb-4 flex items-center gap-2 px-2 font-semibold max-md:hidden">
          <img src="/mark.svg" alt="" className="size-5" /> Interlex
        </p>
        {groups.map((group) => (
          <div key={group.title} className="max-md:contents md:mb-3">
            <p className="px-2 pb-1 text-xs text-faint max-md:hidden">{group.title}</p>
            {group.pages.map((page) => (
              <PageLink key={page.to} page={page} className={`${IN_BAR} ${page.isMain ? "" : "max-md:hidden"}`} />
            ))}
          </div>
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
          className={`mt-auto grid gap-2 px-2 text-sm text-soft max-md:absolute max-md:right-2 max-md:bottom-16 max-md:z-20 max-md:w-48 max-md:rounded-md max-md:border max-md:border-line-strong max-md:bg-raised max-md:p-3 ${isOpen ? "" : "max-md:hidden"}`}
        >
          <div className="md:hidden">
            {groups.flatMap((group) => group.pages.filter((page) => !page.isMain)).map((page) => (
              <PageLink key={page.to} page={page} className="" />
            ))}
          </div>
          <ThemeSwitch />
          <Who who={who} />
        </div>
      </nav>
      <div id="content" tabIndex={-1} className="flex min-h-0 min-w-0 flex-1 flex-col outline-none">
        <Warnings />
        {children}
      </div>
    </div>
  );
}

function PageLink({ page, className }: { page: NavPage; className: string }) {
  return (
    <NavLink to={page.to} end={page.to === "/"} className={`${ITEM} ${className}`}>
      <svg
        aria-hidden="true"
        viewBox="0 0 24 24"
        className="size-4 shrink-0 fill-none stroke-current"
        strokeWidth="2"
        strokeLinecap="round"
        strokeLinejoin="round"
      >
        <path d={page.icon} />
      </svg>
      {page.label}
    </NavLink>
  );
}

/** What concerns every page: the stream to this browser, and the database. */
function Warnings() {
  const { kind, status } = useLive();
  const isSignedIn = useQuery(sessionQuery).data !== null;
  const isAway = status !== null && !status.database.up;
  // Where the session has ended, that is asked for, and nothing else is wrong.
  const isLost = kind === "lost" && isSignedIn;
  if (!isLost && !isAway) return null;
  return (
    <div className="grid gap-2 p-4 pb-0">
      {isLost ? (
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
  const navigate = useNavigate();
  const signOut = useMutation({
    mutationFn: () => dataOf(api.DELETE("/api/v1/session")),
    onSettled: async () => {
      // Whoever leaves does not want to be asked back.
      await navigate("/sign-in");
      forgetWho();
      queries.setQueryData(sessionQuery.queryKey, null);
    },
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
