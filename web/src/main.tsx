import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider, type RouteObject } from "react-router";
import { Problem } from "./api/client";
import { signedOut } from "./acts/signedOut";
import { NotFoundPage } from "./pages/NotFoundPage";
import { ProjectFrame } from "./pages/project/ProjectFrame";
import { Root } from "./pages/Root";
import { SignInPage } from "./pages/signin/SignInPage";
import "./parts/theme";
import "./tokens.css";

/** A page comes when one goes there. */
const page = <M extends object>(load: () => Promise<M>, name: keyof M): Pick<RouteObject, "lazy"> => ({
  lazy: async () => ({ Component: (await load())[name] as React.ComponentType }),
});

const router = createBrowserRouter([
  {
    element: <Root />,
    errorElement: <NotFoundPage broken />,
    hydrateFallbackElement: <></>,
    children: [
      { path: "/sign-in", element: <SignInPage /> },
      { path: "/", ...page(() => import("./pages/projects/ProjectsPage"), "ProjectsPage") },
      { path: "/desk", ...page(() => import("./pages/desk/DeskPage"), "DeskPage") },
      { path: "/desk/changed", ...page(() => import("./pages/desk/ChangedPage"), "ChangedPage") },
      { path: "/desk/bring", ...page(() => import("./pages/desk/BringPage"), "BringPage") },
      { path: "/service", ...page(() => import("./pages/service/ServicePage"), "ServicePage") },
      { path: "/confirm", ...page(() => import("./pages/signin/ConfirmPage"), "ConfirmPage") },
      { path: "/me", ...page(() => import("./pages/me/MePage"), "MePage") },
      {
        path: "/p/:project",
        element: <ProjectFrame />,
        children: [
          { index: true, ...page(() => import("./pages/today/TodayPage"), "TodayPage") },
          { path: "assets/*", ...page(() => import("./pages/assets/AssetsPage"), "AssetsPage") },
          { path: "asset/*", ...page(() => import("./pages/asset/AssetPage"), "AssetPage") },
          {
            path: "handoffs",
            ...page(() => import("./pages/handoffs/HistoryFrame"), "HistoryFrame"),
            children: [
              { index: true, ...page(() => import("./pages/handoffs/HandoffsPage"), "HandoffsPage") },
              { path: "milestones", ...page(() => import("./pages/milestones/MilestonesPage"), "MilestonesPage") },
              { path: "shown", ...page(() => import("./pages/showings/ShowingsPage"), "ShowingsPage") },
              { path: "between", ...page(() => import("./pages/between/BetweenPage"), "BetweenPage") },
            ],
          },
          { path: "handoffs/:number", ...page(() => import("./pages/handoff/HandoffPage"), "HandoffPage") },
          {
            path: "locks",
            ...page(() => import("./pages/locks/LocksPage"), "LocksPage"),
            children: [
              { index: true, ...page(() => import("./pages/locks/Board"), "Board") },
              { path: "record", ...page(() => import("./pages/locks/Record"), "Record") },
              { path: "waiting", ...page(() => import("./pages/locks/Contested"), "Contested") },
            ],
          },
          { path: "branches", ...page(() => import("./pages/branches/BranchesPage"), "BranchesPage") },
          { path: "branches/*", ...page(() => import("./pages/branches/BranchPage"), "BranchPage") },
          { path: "merge", ...page(() => import("./pages/branches/MergePage"), "MergePage") },
          { path: "reviews/:review", ...page(() => import("./pages/review/ReviewPage"), "ReviewPage") },
          { path: "compare", ...page(() => import("./pages/compare/ComparePage"), "ComparePage") },
          { path: "code", ...page(() => import("./pages/code/CodePage"), "CodePage") },
          { path: "rules", ...page(() => import("./pages/rules/RulesPage"), "RulesPage") },
          {
            ...page(() => import("./pages/people/AboutFrame"), "AboutFrame"),
            children: [
              { path: "people", ...page(() => import("./pages/people/PeoplePage"), "PeoplePage") },
              { path: "kits", ...page(() => import("./pages/kits/KitsPage"), "KitsPage") },
              { path: "kits/:kit", ...page(() => import("./pages/kits/KitPage"), "KitPage") },
              { path: "usage", ...page(() => import("./pages/people/UsagePage"), "UsagePage") },
              { path: "record", ...page(() => import("./pages/people/RecordPage"), "RecordPage") },
              { path: "ending", ...page(() => import("./pages/people/EndingPage"), "EndingPage") },
            ],
          },
          { path: "find", ...page(() => import("./pages/find/FindPage"), "FindPage") },
          { path: "wall", ...page(() => import("./pages/wall/WallPage"), "WallPage") },
          { path: "news", ...page(() => import("./pages/news/NewsPage"), "NewsPage") },
          { path: "*", element: <NotFoundPage inside /> },
        ],
      },
      { path: "*", element: <NotFoundPage /> },
    ],
  },
  {
    path: "/invited",
    errorElement: <NotFoundPage broken />,
    hydrateFallbackElement: <></>,
    ...page(() => import("./pages/invited/InvitedPage"), "InvitedPage"),
  },
  {
    path: "/sign-in/house",
    errorElement: <NotFoundPage broken />,
    hydrateFallbackElement: <></>,
    ...page(() => import("./pages/signin/HousePage"), "HousePage"),
  },
  {
    path: "/forgotten",
    errorElement: <NotFoundPage broken />,
    hydrateFallbackElement: <></>,
    ...page(() => import("./pages/signin/ForgottenPage"), "ForgottenPage"),
  },
  {
    path: "/shown/:secret",
    errorElement: <NotFoundPage broken />,
    hydrateFallbackElement: <></>,
    ...page(() => import("./pages/shown/ShownPage"), "ShownPage"),
  },
]);

/** Whoever is signed out meanwhile signs in again on the spot: the page stays as it is, with what was typed. */
const noticed = (error: unknown) => {
  if (error instanceof Problem && error.signedOut && !location.pathname.startsWith("/sign-in")) signedOut.notice();
};

const queries = new QueryClient({
  queryCache: new QueryCache({ onError: noticed }),
  mutationCache: new MutationCache({ onError: noticed }),
  defaultOptions: {
    queries: {
      staleTime: 10_000,
      retry: (count, error) => !(error instanceof Problem && error.details.status >= 400 && error.details.status < 500) && count < 3,
    },
  },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
