import "./app.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { BASE } from "./api/base";
import { onSignedOut, shouldRetry } from "./api/client";
import { EffectsPage } from "./features/effects/EffectsPage";
import { FilesPage } from "./features/files/FilesPage";
import { SetPage } from "./features/files/SetPage";
import { HostsPage } from "./features/hosts/HostsPage";
import { KitPage } from "./features/kits/KitPage";
import { ListenPage } from "./features/listening/ListenPage";
import { TestPage } from "./features/listening/TestPage";
import { TestsPage } from "./features/listening/TestsPage";
import { CellPairPage, FilePage, FilesPairPage } from "./features/pair/PairPage";
import { PeoplePage } from "./features/people/PeoplePage";
import { meQuery } from "./features/people/queries";
import { SignedIn } from "./features/people/SignedIn";
import { SignInPage } from "./features/people/SignInPage";
import { NewPlanPage, PlanPage } from "./features/plans/PlanPage";
import { PlansPage } from "./features/plans/PlansPage";
import { HistoryPage, ReferencesPage } from "./features/references/ReferencesPage";
import { ReportPage } from "./features/report/ReportPage";
import { RunsPage } from "./features/runs/RunsPage";
import { SearchPage } from "./features/searches/SearchPage";
import { SheetPage } from "./features/sheet/SheetPage";
import { SignalsPage } from "./features/signals/SignalsPage";
import { StoragePage } from "./features/storage/StoragePage";
import { TrendsPage } from "./features/trends/TrendsPage";
import { NotFound, Shell } from "./shell/Shell";

const queries = new QueryClient({
  defaultOptions: { queries: { retry: shouldRetry, retryDelay: 1000, staleTime: 1000 } },
});

onSignedOut(() => void queries.invalidateQueries({ queryKey: meQuery.queryKey }));

const routes = [
  { path: "/sign-in", element: <SignInPage /> },
  {
    element: (
      <SignedIn>
        <Shell />
      </SignedIn>
    ),
    children: [
      { path: "/", element: <RunsPage /> },
      { path: "/runs/:run", element: <SheetPage /> },
      { path: "/runs/:run/report", element: <ReportPage /> },
      { path: "/runs/:run/kit", element: <KitPage /> },
      { path: "/trends", element: <TrendsPage /> },
      { path: "/searches/:search", element: <SearchPage /> },
      { path: "/plans", element: <PlansPage /> },
      { path: "/plans/new", element: <NewPlanPage /> },
      { path: "/plans/:plan", element: <PlanPage /> },
      { path: "/signals", element: <SignalsPage /> },
      { path: "/hosts", element: <HostsPage /> },
      { path: "/effects", element: <EffectsPage /> },
      { path: "/cells/:cell", element: <CellPairPage /> },
      { path: "/files", element: <FilesPage /> },
      { path: "/files/:set", element: <SetPage /> },
      { path: "/files/:set/:file", element: <FilePage /> },
      { path: "/comparisons/:comparison", element: <FilesPairPage /> },
      { path: "/listen", element: <ListenPage /> },
      { path: "/listen/tests", element: <TestsPage /> },
      { path: "/listen/tests/:test", element: <TestPage /> },
      { path: "/references", element: <ReferencesPage /> },
      { path: "/references/:reference", element: <HistoryPage /> },
      { path: "/people", element: <PeoplePage /> },
      { path: "/storage", element: <StoragePage /> },
      { path: "*", element: <NotFound /> },
    ],
  },
];

const router = createBrowserRouter(routes, { basename: BASE || "/" });

const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
