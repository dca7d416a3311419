import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { Problem } from "./api/client";
import { AssetPage } from "./pages/asset/AssetPage";
import { AssetsPage } from "./pages/assets/AssetsPage";
import { BetweenPage } from "./pages/between/BetweenPage";
import { BranchesPage } from "./pages/branches/BranchesPage";
import { BranchPage } from "./pages/branches/BranchPage";
import { MergePage } from "./pages/branches/MergePage";
import { CodePage } from "./pages/code/CodePage";
import { ComparePage } from "./pages/compare/ComparePage";
import { HandoffPage } from "./pages/handoff/HandoffPage";
import { HandoffsPage } from "./pages/handoffs/HandoffsPage";
import { HistoryFrame } from "./pages/handoffs/HistoryFrame";
import { Board } from "./pages/locks/Board";
import { Contested } from "./pages/locks/Contested";
import { LocksPage } from "./pages/locks/LocksPage";
import { Record } from "./pages/locks/Record";
import { MePage } from "./pages/me/MePage";
import { MilestonesPage } from "./pages/milestones/MilestonesPage";
import { NewsPage } from "./pages/news/NewsPage";
import { ProjectFrame } from "./pages/project/ProjectFrame";
import { ProjectsPage } from "./pages/projects/ProjectsPage";
import { ReviewPage } from "./pages/review/ReviewPage";
import { RulesPage } from "./pages/rules/RulesPage";
import { SignInPage } from "./pages/signin/SignInPage";
import { TodayPage } from "./pages/today/TodayPage";
import "./parts/theme";
import "./tokens.css";

const router = createBrowserRouter([
  { path: "/sign-in", element: <SignInPage /> },
  { path: "/", element: <ProjectsPage /> },
  { path: "/me", element: <MePage /> },
  {
    path: "/p/:project",
    element: <ProjectFrame />,
    children: [
      { index: true, element: <TodayPage /> },
      { path: "assets/*", element: <AssetsPage /> },
      { path: "asset/*", element: <AssetPage /> },
      {
        path: "handoffs",
        element: <HistoryFrame />,
        children: [
          { index: true, element: <HandoffsPage /> },
          { path: "milestones", element: <MilestonesPage /> },
          { path: "between", element: <BetweenPage /> },
        ],
      },
      { path: "handoffs/:number", element: <HandoffPage /> },
      {
        path: "locks",
        element: <LocksPage />,
        children: [
          { index: true, element: <Board /> },
          { path: "record", element: <Record /> },
          { path: "waiting", element: <Contested /> },
        ],
      },
      { path: "branches", element: <BranchesPage /> },
      { path: "branches/*", element: <BranchPage /> },
      { path: "merge", element: <MergePage /> },
      { path: "reviews/:review", element: <ReviewPage /> },
      { path: "compare", element: <ComparePage /> },
      { path: "code", element: <CodePage /> },
      { path: "rules", element: <RulesPage /> },
      { path: "news", element: <NewsPage /> },
    ],
  },
  { path: "*", element: <ProjectsPage /> },
]);

const queries = new QueryClient({
  queryCache: new QueryCache({
    onError: (error) => {
      if (error instanceof Problem && error.signedOut && location.pathname !== "/sign-in") {
        void router.navigate(`/sign-in?to=${encodeURIComponent(location.pathname + location.search)}`);
      }
    },
  }),
  defaultOptions: {
    queries: { staleTime: 10_000, retry: (count, error) => !(error instanceof Problem && error.details.status >= 400 && error.details.status < 500) && count < 3 },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
