import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Navigate, RouterProvider } from "react-router";
import { Problem } from "./api/client";
import { CasesSheet } from "./areas/cases/CasesSheet";
import { DriversSheet } from "./areas/drivers/DriversSheet";
import { Home } from "./areas/home/Home";
import { IntakeSheet } from "./areas/intake/IntakeSheet";
import { ReportSheet } from "./areas/report/ReportSheet";
import { ResponseSheet } from "./areas/response/ResponseSheet";
import { TiltSheet } from "./areas/tilt/TiltSheet";
import { Frame } from "./frame/Frame";
import { Ready } from "./frame/Ready";
import "./theme.css";

const client = new QueryClient({
  defaultOptions: {
    queries: {
      // a server or database that is being started again is waited for; everything else is said at once
      retry: (failures, error) =>
        error instanceof Problem && (error.status === 0 || error.status === 503) && failures < 8,
      retryDelay: 1_500,
      refetchOnWindowFocus: false,
    },
  },
});

const router = createBrowserRouter([
  { path: "/", element: <Home /> },
  {
    path: "/audits/:auditId",
    element: <Frame />,
    children: [
      { index: true, element: <Navigate to="intake" replace /> },
      { path: "intake", element: <IntakeSheet /> },
      {
        element: <Ready />,
        children: [
          { path: "drivers", element: <DriversSheet /> },
          { path: "response", element: <ResponseSheet /> },
          { path: "cases", element: <CasesSheet /> },
          { path: "tilt", element: <TiltSheet /> },
          { path: "report", element: <ReportSheet /> },
        ],
      },
    ],
  },
  { path: "*", element: <Home /> },
]);

createRoot(document.getElementById("root") as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <RouterProvider router={router} />
    </QueryClientProvider>
  </StrictMode>,
);
