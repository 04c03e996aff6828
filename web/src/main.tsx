import "@fontsource-variable/atkinson-hyperlegible-next";
import { CssBaseline, ThemeProvider } from "@mui/material";
import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode, type ComponentType } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { cache } from "./api/cache";
import "./app/frame.css";
import { page } from "./app/pages";
import { Shell } from "./app/Shell";
import { theme } from "./app/theme";

/** Each station’s pages come with it, when it is first gone to. */
const STATIONS: [string, ComponentType][] = [
  ["/today", page(() => import("./features/today/TodayPage").then((m) => m.TodayPage))],
  ["/contacts/*", page(() => import("./features/contacts/pages").then((m) => m.ContactsStation))],
  ["/clearance/*", page(() => import("./features/clearance/pages").then((m) => m.ClearanceStation))],
  ["/mailings/*", page(() => import("./features/mailings/pages").then((m) => m.MailingsStation))],
  ["/trials/*", page(() => import("./features/trials/pages").then((m) => m.TrialsStation))],
  ["/series/*", page(() => import("./features/series/pages").then((m) => m.SeriesStation))],
  ["/delivery/*", page(() => import("./features/delivery/pages").then((m) => m.DeliveryStation))],
  ["/findings/*", page(() => import("./features/findings/pages").then((m) => m.FindingsStation))],
  ["/upkeep/*", page(() => import("./features/upkeep/pages").then((m) => m.UpkeepStation))],
  ["/setup/*", page(() => import("./features/setup/pages").then((m) => m.SetupStation))],
];

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <ThemeProvider theme={theme}>
      <CssBaseline />
      <QueryClientProvider client={cache}>
        <BrowserRouter>
          <Routes>
            <Route element={<Shell />}>
              <Route path="/" element={<Navigate to="/today" replace />} />
              {STATIONS.map(([path, Page]) => (
                <Route key={path} path={path} element={<Page />} />
              ))}
              <Route path="*" element={<Navigate to="/today" replace />} />
            </Route>
          </Routes>
        </BrowserRouter>
      </QueryClientProvider>
    </ThemeProvider>
  </StrictMode>,
);
