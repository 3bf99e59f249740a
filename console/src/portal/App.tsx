import { createBrowserRouter } from "react-router";
import { RouterProvider } from "react-router/dom";

import { GlobalStyle } from "../theme";
import { Frame } from "./Frame";
import { Home } from "./pages/Home";
import { Missing } from "./pages/Missing";

const router = createBrowserRouter([
  {
    path: "/",
    Component: Frame,
    HydrateFallback: () => null,
    children: [
      { index: true, Component: Home },
      { path: "facades/:facade", lazy: async () => ({ Component: (await import("./pages/FacadePage")).FacadePage }) },
      {
        path: "facades/:facade/:operation",
        lazy: async () => ({ Component: (await import("./pages/OperationPage")).OperationPage }),
      },
      {
        path: "facades/:facade/models/:model",
        lazy: async () => ({ Component: (await import("./pages/ModelPage")).ModelPage }),
      },
      { path: "join", lazy: async () => ({ Component: (await import("./pages/Join")).Join }) },
      { path: "webhooks", lazy: async () => ({ Component: (await import("./pages/Webhooks")).Webhooks }) },
      { path: "pages/:page", lazy: async () => ({ Component: (await import("./pages/TextPage")).TextPage }) },
      { path: "offers", lazy: async () => ({ Component: (await import("./pages/Offers")).Offers }) },
      { path: "sign-in", lazy: async () => ({ Component: (await import("./pages/SignIn")).SignIn }) },
      { path: "sign-up", lazy: async () => ({ Component: (await import("./pages/SignUp")).SignUp }) },
      { path: "confirm", lazy: async () => ({ Component: (await import("./pages/Confirm")).Confirm }) },
      { path: "forgotten", lazy: async () => ({ Component: (await import("./pages/Forgotten")).Forgotten }) },
      { path: "reset", lazy: async () => ({ Component: (await import("./pages/Reset")).Reset }) },
      {
        path: "applications",
        lazy: async () => ({ Component: (await import("./pages/Applications")).Applications }),
      },
      {
        path: "applications/:application",
        lazy: async () => ({ Component: (await import("./pages/OneApplication")).OneApplication }),
      },
      { path: "messages", lazy: async () => ({ Component: (await import("./pages/Messages")).Messages }) },
      { path: "account", lazy: async () => ({ Component: (await import("./pages/AccountPage")).AccountPage }) },
      { path: "*", Component: Missing },
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
