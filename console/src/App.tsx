import { createBrowserRouter } from "react-router";
import { RouterProvider } from "react-router/dom";

import { Overview } from "./pages/overview/Overview";
import { GlobalStyle } from "./theme";
import { Root } from "./app/Root";
import { NotFound } from "./app/NotFound";

export const router = createBrowserRouter([
  {
    path: "/",
    Component: Root,
    HydrateFallback: () => null,
    children: [
      { index: true, Component: Overview },
      { path: "facades", lazy: async () => ({ Component: (await import("./pages/facade/Facades")).Facades }) },
      {
        path: "facades/:facade",
        lazy: async () => ({ Component: (await import("./pages/facade/FacadePage")).FacadePage }),
      },
      {
        path: "facades/:facade/:operation",
        lazy: async () => ({ Component: (await import("./pages/operation/OperationPage")).OperationPage }),
      },
      { path: "backends", lazy: async () => ({ Component: (await import("./pages/backends/Backends")).Backends }) },
      { path: "rules", lazy: async () => ({ Component: (await import("./pages/rules/Rules")).Rules }) },
      { path: "publish", lazy: async () => ({ Component: (await import("./pages/publish/Publish")).Publish }) },
      { path: "documents", lazy: async () => ({ Component: (await import("./pages/documents/Documents")).Documents }) },
      { path: "release", lazy: async () => ({ Component: (await import("./pages/release/ReleasePage")).ReleasePage }) },
      { path: "consumers", lazy: async () => ({ Component: (await import("./pages/consumers/Consumers")).Consumers }) },
      {
        path: "consumers/:consumer",
        lazy: async () => ({ Component: (await import("./pages/consumers/OneConsumer")).OneConsumer }),
      },
      { path: "offers", lazy: async () => ({ Component: (await import("./pages/offers/Offers")).Offers }) },
      { path: "messages", lazy: async () => ({ Component: (await import("./pages/messages/Messages")).Messages }) },
      { path: "quotas", lazy: async () => ({ Component: (await import("./pages/Quotas")).Quotas }) },
      { path: "traces", lazy: async () => ({ Component: (await import("./pages/traces/Traces")).Traces }) },
      { path: "traces/:id", lazy: async () => ({ Component: (await import("./pages/traces/TracePage")).TracePage }) },
      { path: "usage", lazy: async () => ({ Component: (await import("./pages/Usage")).Usage }) },
      { path: "secrets", lazy: async () => ({ Component: (await import("./pages/Secrets")).Secrets }) },
      { path: "accounts", lazy: async () => ({ Component: (await import("./pages/Accounts")).Accounts }) },
      { path: "own", lazy: async () => ({ Component: (await import("./pages/own/Own")).Own }) },
      { path: "audit", lazy: async () => ({ Component: (await import("./pages/Audit")).Audit }) },
      { path: "*", Component: NotFound },
    ],
  },
]);

export function App() {
  return (
    <>
      <GlobalStyle />
      <RouterProvider router={router} />
    </>
  );
}
