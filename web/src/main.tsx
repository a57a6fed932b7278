import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { Problem } from "./api/client";
import { tellOfState } from "./api/events";
import { followAnswers, tellBy } from "./api/state";
import { Frame } from "./frame/Frame";
import { Ready } from "./frame/Ready";
import { fetchTheRest, later } from "./ui/later";
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

followAnswers(client);
tellBy(tellOfState);

const Home = later(async () => (await import("./areas/home/Home")).Home);
const Intake = later(async () => (await import("./areas/intake/IntakeSheet")).IntakeSheet);
const Data = later(async () => (await import("./areas/data/DataSheet")).DataSheet);
const Drivers = later(async () => (await import("./areas/drivers/DriversSheet")).DriversSheet);
const Response = later(async () => (await import("./areas/response/ResponseSheet")).ResponseSheet);
const Cases = later(async () => (await import("./areas/cases/CasesSheet")).CasesSheet);
const Pockets = later(async () => (await import("./areas/pockets/PocketsSheet")).PocketsSheet);
const Tilt = later(async () => (await import("./areas/tilt/TiltSheet")).TiltSheet);
const Remedies = later(async () => (await import("./areas/remedies/RemediesSheet")).RemediesSheet);
const Report = later(async () => (await import("./areas/report/ReportSheet")).ReportSheet);

createRoot(document.getElementById("root") as HTMLElement).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Suspense>
          <Routes>
            <Route path="/audits/:auditId" element={<Frame />}>
              <Route index element={<Navigate to="intake" replace />} />
              <Route path="intake" element={<Intake />} />
              <Route element={<Ready />}>
                <Route path="data" element={<Data />} />
                <Route path="drivers" element={<Drivers />} />
                <Route path="response" element={<Response />} />
                <Route path="cases" element={<Cases />} />
                <Route path="pockets" element={<Pockets />} />
                <Route path="tilt" element={<Tilt />} />
                <Route path="remedies" element={<Remedies />} />
                <Route path="report" element={<Report />} />
              </Route>
            </Route>
            <Route path="*" element={<Home />} />
          </Routes>
        </Suspense>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);

// the other areas' code comes once the first page stands
window.addEventListener("load", () => setTimeout(fetchTheRest, 1_500));
