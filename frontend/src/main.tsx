import "./app.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { type ComponentType, lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, type RouteObject, useRoutes } from "react-router";
import { BASE } from "./api/base";
import { onSignedOut, shouldRetry } from "./api/client";
import { meQuery } from "./api/me";
import { SignedIn } from "./features/people/SignedIn";
import { Boundary } from "./shell/Boundary";
import { NotFound, Shell } from "./shell/Shell";
import { Loading } from "./ui/states";

const queries = new QueryClient({
  defaultOptions: { queries: { retry: shouldRetry, retryDelay: 1000, staleTime: 1000 } },
});

onSignedOut(() => void queries.invalidateQueries({ queryKey: meQuery.queryKey }));

/** A page that is fetched when it is first looked at. */
function page(fetch: () => Promise<ComponentType>) {
  const Page = lazy(async () => ({ default: await fetch() }));
  return <Page />;
}

const routes: RouteObject[] = [
  {
    path: "/sign-in",
    element: page(async () => (await import("./features/people/SignInPage")).SignInPage),
  },
  {
    element: (
      <SignedIn>
        <Shell />
      </SignedIn>
    ),
    children: [
      {
        path: "/",
        element: page(async () => (await import("./features/runs/RunsPage")).RunsPage),
      },
      {
        path: "/runs/:run",
        element: page(async () => (await import("./features/sheet/SheetPage")).SheetPage),
      },
      {
        path: "/runs/:run/report",
        element: page(async () => (await import("./features/report/ReportPage")).ReportPage),
      },
      {
        path: "/runs/:run/kit",
        element: page(async () => (await import("./features/kits/KitPage")).KitPage),
      },
      {
        path: "/trends",
        element: page(async () => (await import("./features/trends/TrendsPage")).TrendsPage),
      },
      {
        path: "/searches/:search",
        element: page(async () => (await import("./features/searches/SearchPage")).SearchPage),
      },
      {
        path: "/plans",
        element: page(async () => (await import("./features/plans/PlansPage")).PlansPage),
      },
      {
        path: "/plans/new",
        element: page(async () => (await import("./features/plans/PlanPage")).NewPlanPage),
      },
      {
        path: "/plans/:plan",
        element: page(async () => (await import("./features/plans/PlanPage")).PlanPage),
      },
      {
        path: "/signals",
        element: page(async () => (await import("./features/signals/SignalsPage")).SignalsPage),
      },
      {
        path: "/hosts",
        element: page(async () => (await import("./features/hosts/HostsPage")).HostsPage),
      },
      {
        path: "/effects",
        element: page(async () => (await import("./features/effects/EffectsPage")).EffectsPage),
      },
      {
        path: "/cells/:cell",
        element: page(async () => (await import("./features/pair/PairPage")).CellPairPage),
      },
      {
        path: "/files",
        element: page(async () => (await import("./features/files/FilesPage")).FilesPage),
      },
      {
        path: "/files/:set",
        element: page(async () => (await import("./features/files/SetPage")).SetPage),
      },
      {
        path: "/files/:set/:file",
        element: page(async () => (await import("./features/pair/PairPage")).FilePage),
      },
      {
        path: "/comparisons/:comparison",
        element: page(async () => (await import("./features/pair/PairPage")).FilesPairPage),
      },
      {
        path: "/overlay",
        element: page(async () => (await import("./features/overlays/OverlayPage")).OverlayPage),
      },
      {
        path: "/listen",
        element: page(async () => (await import("./features/listening/ListenPage")).ListenPage),
      },
      {
        path: "/listen/tests",
        element: page(async () => (await import("./features/listening/TestsPage")).TestsPage),
      },
      {
        path: "/listen/tests/:test",
        element: page(async () => (await import("./features/listening/TestPage")).TestPage),
      },
      {
        path: "/references",
        element: page(async () => (await import("./features/references/ReferencesPage")).ReferencesPage),
      },
      {
        path: "/references/:reference",
        element: page(async () => (await import("./features/references/ReferencesPage")).HistoryPage),
      },
      {
        path: "/record",
        element: page(async () => (await import("./features/record/RecordPage")).RecordPage),
      },
      {
        path: "/schedules",
        element: page(async () => (await import("./features/schedules/SchedulesPage")).SchedulesPage),
      },
      {
        path: "/notices",
        element: page(async () => (await import("./features/notices/NoticesPage")).NoticesPage),
      },
      {
        path: "/people",
        element: page(async () => (await import("./features/people/PeoplePage")).PeoplePage),
      },
      {
        path: "/storage",
        element: page(async () => (await import("./features/storage/StoragePage")).StoragePage),
      },
      { path: "*", element: <NotFound /> },
    ],
  },
];

const Pages = () => useRoutes(routes);

const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter basename={BASE || "/"}>
          <Boundary>
            <Suspense fallback={<Loading what="the page" />}>
              <Pages />
            </Suspense>
          </Boundary>
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
