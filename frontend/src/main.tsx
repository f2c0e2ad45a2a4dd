import "./app.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { BASE } from "./api/base";
import { onSignedOut } from "./api/client";
import { shouldRetry } from "./api/queries";
import { ComparePage } from "./compare/ComparePage";
import { EffectsPage } from "./effects/EffectsPage";
import { HostsPage } from "./hosts/HostsPage";
import { KitPage } from "./kit/KitPage";
import { CellPairPage, FilesPairPage } from "./pair/PairPage";
import { PeoplePage } from "./people/PeoplePage";
import { meQuery } from "./people/queries";
import { SignedIn } from "./people/SignedIn";
import { SignInPage } from "./people/SignInPage";
import { NewPlanPage, PlanPage } from "./plans/PlanPage";
import { PlansPage } from "./plans/PlansPage";
import { HistoryPage, ReferencesPage } from "./references/ReferencesPage";
import { RunsPage } from "./runs/RunsPage";
import { SheetPage } from "./sheet/SheetPage";
import { NotFound, Shell } from "./shell/Shell";
import { SignalsPage } from "./signals/SignalsPage";
import { SearchPage } from "./trends/SearchPage";
import { TrendsPage } from "./trends/TrendsPage";

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
      { path: "/compare", element: <ComparePage /> },
      { path: "/comparisons/:comparison", element: <FilesPairPage /> },
      { path: "/references", element: <ReferencesPage /> },
      { path: "/references/:reference", element: <HistoryPage /> },
      { path: "/people", element: <PeoplePage /> },
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
