import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Link, Navigate, Route, Routes, useLocation } from "react-router";
import { api, ApiFailure } from "./api/client";
import { sessionQuery } from "./api/queries";
import { Loading, Notice } from "./components/Notice";
import { Shell, useTheme } from "./components/Shell";
import { OverviewPage } from "./features/overview/OverviewPage";
import { Palette } from "./features/palette/Palette";
import { SignInAgain, SignInPage } from "./features/session/SignInPage";
import { useWho } from "./features/session/may";
import { LiveProvider } from "./live/live";
import "./styles.css";

// Each page comes when it is gone to.
const AddDevicePage = lazy(() => import("./features/devices/AddDevicePage").then((page) => ({ default: page.AddDevicePage })));
const AuditPage = lazy(() => import("./features/audit/AuditPage").then((page) => ({ default: page.AuditPage })));
const BufferPage = lazy(() => import("./features/buffer/BufferPage").then((page) => ({ default: page.BufferPage })));
const ChangesPage = lazy(() => import("./features/changes/ChangesPage").then((page) => ({ default: page.ChangesPage })));
const DevicesPage = lazy(() => import("./features/devices/DevicesPage").then((page) => ({ default: page.DevicesPage })));
const EventsPage = lazy(() => import("./features/events/EventsPage").then((page) => ({ default: page.EventsPage })));
const FramesPage = lazy(() => import("./features/frames/FramesPage").then((page) => ({ default: page.FramesPage })));
const GatewaysPage = lazy(() => import("./features/gateways/GatewaysPage").then((page) => ({ default: page.GatewaysPage })));
const LoopsPage = lazy(() => import("./features/loops/LoopsPage").then((page) => ({ default: page.LoopsPage })));
const LinksPage = lazy(() => import("./features/links/LinksPage").then((page) => ({ default: page.LinksPage })));
const ModelsPage = lazy(() => import("./features/models/ModelsPage").then((page) => ({ default: page.ModelsPage })));
const OutagesPage = lazy(() => import("./features/outages/OutagesPage").then((page) => ({ default: page.OutagesPage })));
const PeoplePage = lazy(() => import("./features/people/PeoplePage").then((page) => ({ default: page.PeoplePage })));
const PointsPage = lazy(() => import("./features/points/PointsPage").then((page) => ({ default: page.PointsPage })));
const ReferencePage = lazy(() => import("./features/reference/ReferencePage").then((page) => ({ default: page.ReferencePage })));
const RevisionsPage = lazy(() => import("./features/revisions/RevisionsPage").then((page) => ({ default: page.RevisionsPage })));
const SetupPage = lazy(() => import("./features/session/SetupPage").then((page) => ({ default: page.SetupPage })));
const TapPage = lazy(() => import("./features/tap/TapPage").then((page) => ({ default: page.TapPage })));

function App() {
  useTheme();
  return (
    <Suspense fallback={<Loading what="the page" />}>
    <Routes>
      <Route path="/setup" element={<SetupPage />} />
      <Route path="/sign-in" element={<SignInPage />} />
      <Route path="*" element={<Inside />} />
    </Routes>
    </Suspense>
  );
}

/** Everything that needs a person who is signed in. */
function Inside() {
  const session = useQuery(sessionQuery);
  const { pathname, search } = useLocation();
  const who = useWho();
  if (session.data === undefined) {
    return session.failureReason ? (
      <main className="p-6">
        <Notice tone="alarm" title={session.failureReason.message}>
          The console goes on trying.
        </Notice>
      </main>
    ) : (
      <Loading what="the console" />
    );
  }
  if (who === null) return <Navigate to={`/sign-in?to=${encodeURIComponent(pathname + search)}`} replace />;
  return (
    <LiveProvider onLost={askWhoIsSignedIn}>
      <Palette />
      {session.data === null ? <SignInAgain name={who.name} /> : null}
      <Shell who={who}>
        <Suspense fallback={<Loading what="the page" />}>
        <Routes>
          <Route path="/" element={<OverviewPage />} />
          <Route path="/points" element={<PointsPage />} />
          <Route path="/events" element={<EventsPage />} />
          <Route path="/frames" element={<FramesPage />} />
          <Route path="/buffer" element={<BufferPage />} />
          <Route path="/loop-checks" element={<LoopsPage />} />
          <Route path="/outages" element={<OutagesPage />} />
          <Route path="/tap" element={<TapPage />} />
          <Route path="/gateways" element={<GatewaysPage />} />
          <Route path="/links" element={<LinksPage />} />
          <Route path="/devices" element={<DevicesPage />} />
          <Route path="/devices/add" element={<AddDevicePage />} />
          <Route path="/models" element={<ModelsPage />} />
          <Route path="/changes" element={<ChangesPage />} />
          <Route path="/revisions" element={<RevisionsPage />} />
          <Route path="/people" element={<PeoplePage />} />
          <Route path="/audit" element={<AuditPage />} />
          <Route path="/api-reference" element={<ReferencePage />} />
          <Route path="*" element={<NoSuchPage />} />
        </Routes>
        </Suspense>
      </Shell>
    </LiveProvider>
  );
}

function NoSuchPage() {
  return (
    <main className="p-6">
      <Notice title="There is no such page">
        <Link to="/" className="text-act underline">
          Go to the overview
        </Link>
      </Notice>
    </main>
  );
}

const queries = new QueryClient({
  defaultOptions: {
    queries: { retry: (failures, error) => passes(error) || failures < 1, retryDelay: 2000, refetchOnWindowFocus: false },
  },
});

/** The stream may have ended because the session has. */
const askWhoIsSignedIn = () => void queries.invalidateQueries({ queryKey: sessionQuery.queryKey });

/** Whether an error passes by itself: pages stay as they are, and what they ask for is asked again. */
function passes(error: unknown): boolean {
  return error instanceof ApiFailure && (error.status === 0 || error.status === 401 || error.status === 429 || error.status >= 500);
}

// Whichever call finds that the session has ended, the page asks to sign in again.
api.use({
  onResponse({ response, schemaPath }) {
    if (response.status === 401 && schemaPath !== "/api/v1/session") queries.setQueryData(sessionQuery.queryKey, null);
  },
});
const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
