import "@fontsource-variable/atkinson-hyperlegible-next";
import { CssBaseline, ThemeProvider } from "@mui/material";
import { QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode, type ComponentType } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Navigate, Route, Routes } from "react-router";
import { cache } from "./api/cache";
import "./app/frame.css";
import { Shell } from "./app/Shell";
import { theme } from "./app/theme";

/** A page whose script comes when it is first asked for. */
const page = (load: () => Promise<ComponentType>) => lazy(async () => ({ default: await load() }));

const PAGES: [string, ComponentType][] = [
  ["/today", page(() => import("./features/today/TodayPage").then((m) => m.TodayPage))],
  ["/contacts", page(() => import("./features/contacts/ContactsPage").then((m) => m.ContactsPage))],
  ["/contacts/import", page(() => import("./features/contacts/ImportPage").then((m) => m.ImportPage))],
  ["/contacts/import/:id", page(() => import("./features/contacts/ImportRunPage").then((m) => m.ImportRunPage))],
  ["/contacts/add", page(() => import("./features/contacts/AddPage").then((m) => m.AddPage))],
  ["/contacts/recency", page(() => import("./features/guides/RecencyPage").then((m) => m.RecencyPage))],
  ["/contacts/growth", page(() => import("./features/guides/GrowthPage").then((m) => m.GrowthPage))],
  ["/contacts/sources", page(() => import("./features/guides/SourcesPage").then((m) => m.SourcesPage))],
  ["/contacts/check", page(() => import("./features/contacts/BaseCheckPage").then((m) => m.BaseCheckPage))],
  ["/contacts/words", page(() => import("./features/contacts/WordsPage").then((m) => m.WordsPage))],
  ["/contacts/segments", page(() => import("./features/segments/SegmentsPage").then((m) => m.SegmentsPage))],
  ["/contacts/segments/:id", page(() => import("./features/segments/SegmentPage").then((m) => m.SegmentPage))],
  ["/contacts/:id", page(() => import("./features/contacts/ContactPage").then((m) => m.ContactPage))],
  ["/clearance", page(() => import("./features/clearance/ClearanceHome").then((m) => m.ClearanceHome))],
  ["/clearance/rules", page(() => import("./features/clearance/RulesPage").then((m) => m.RulesPage))],
  ["/clearance/domains", page(() => import("./features/clearance/DomainsPage").then((m) => m.DomainsPage))],
  ["/clearance/suppression", page(() => import("./features/clearance/SuppressionPage").then((m) => m.SuppressionPage))],
  [
    "/clearance/suppression/:id",
    page(() => import("./features/clearance/SuppressionListPage").then((m) => m.SuppressionListPage)),
  ],
  ["/clearance/cap-guide", page(() => import("./features/clearance/CapGuidePage").then((m) => m.CapGuidePage))],
  ["/clearance/forecast", page(() => import("./features/clearance/ForecastPage").then((m) => m.ForecastPage))],
  ["/clearance/consent", page(() => import("./features/clearance/ConsentPage").then((m) => m.ConsentPage))],
  ["/clearance/holdout", page(() => import("./features/clearance/HoldoutPage").then((m) => m.HoldoutPage))],
  ["/clearance/:id", page(() => import("./features/clearance/SluicePage").then((m) => m.SluicePage))],
  ["/clearance/:id/person/:contact", page(() => import("./features/clearance/WhyPage").then((m) => m.WhyPage))],
  ["/mailings", page(() => import("./features/mailings/MailingsHome").then((m) => m.MailingsHome))],
  ["/mailings/calendar", page(() => import("./features/mailings/CalendarPage").then((m) => m.CalendarPage))],
  ["/mailings/compare", page(() => import("./features/mailings/ComparePage").then((m) => m.ComparePage))],
  ["/mailings/letterheads/:id", page(() => import("./features/mailings/LetterheadPage").then((m) => m.LetterheadPage))],
  ["/mailings/reactions", page(() => import("./features/reactions/ReactionsPage").then((m) => m.ReactionsPage))],
  ["/mailings/reactions/:id", page(() => import("./features/reactions/ReactionPage").then((m) => m.ReactionPage))],
  ["/mailings/scores", page(() => import("./features/reactions/ScoresPage").then((m) => m.ScoresPage))],
  ["/mailings/webhooks", page(() => import("./features/reactions/WebhooksPage").then((m) => m.WebhooksPage))],
  ["/mailings/:id", page(() => import("./features/mailings/MailingPage").then((m) => m.MailingPage))],
  ["/trials", page(() => import("./features/trials/TrialsHome").then((m) => m.TrialsHome))],
  ["/trials/plan/:mailing", page(() => import("./features/trials/PlanPage").then((m) => m.PlanPage))],
  ["/trials/learned", page(() => import("./features/trials/LearnedPage").then((m) => m.LearnedPage))],
  ["/trials/outside", page(() => import("./features/trials/OutsidePage").then((m) => m.OutsidePage))],
  ["/trials/hours/new", page(() => import("./features/hours/HourTrialPage").then((m) => m.HourPlanPage))],
  ["/trials/hours/:id", page(() => import("./features/hours/HourTrialPage").then((m) => m.HourTrialPage))],
  ["/trials/:id", page(() => import("./features/trials/TrialPage").then((m) => m.TrialPage))],
  ["/series", page(() => import("./features/series/SeriesHome").then((m) => m.SeriesHome))],
  ["/series/:id", page(() => import("./features/series/SeriesPage").then((m) => m.SeriesPage))],
  ["/series/:id/people", page(() => import("./features/series/SeriesPeoplePage").then((m) => m.SeriesPeoplePage))],
  ["/findings/answers", page(() => import("./features/findings/AnswersPage").then((m) => m.AnswersPage))],
  [
    "/findings/compare",
    page(() => import("./features/findings/CompareMailingsPage").then((m) => m.CompareMailingsPage)),
  ],
  ["/findings/links", page(() => import("./features/findings/LinksPage").then((m) => m.LinksPage))],
  ["/findings/revenue", page(() => import("./features/findings/RevenuePage").then((m) => m.RevenuePage))],
  ["/findings", page(() => import("./features/findings/FindingsPage").then((m) => m.FindingsPage))],
  ["/upkeep", page(() => import("./features/upkeep/UpkeepPage").then((m) => m.UpkeepPage))],
  ["/upkeep/addresses", page(() => import("./features/upkeep/AddressesPage").then((m) => m.AddressesPage))],
  ["/upkeep/incidents", page(() => import("./features/upkeep/IncidentsPage").then((m) => m.IncidentsPage))],
  ["/upkeep/machines", page(() => import("./features/upkeep/MachinesPage").then((m) => m.MachinesPage))],
  ["/upkeep/policy", page(() => import("./features/upkeep/PolicyPage").then((m) => m.PolicyPage))],
  ["/upkeep/runs", page(() => import("./features/upkeep/RunsPage").then((m) => m.RunsPage))],
  ["/upkeep/runs/:id", page(() => import("./features/upkeep/RunPage").then((m) => m.RunPage))],
  ["/upkeep/evidence", page(() => import("./features/upkeep/EvidencePage").then((m) => m.EvidencePage))],
  ["/upkeep/reasons", page(() => import("./features/upkeep/ReasonsPage").then((m) => m.ReasonsPage))],
  ["/upkeep/silent", page(() => import("./features/upkeep/SilentPage").then((m) => m.SilentPage))],
  ["/upkeep/record-system", page(() => import("./features/upkeep/RecordsPage").then((m) => m.RecordsPage))],
  ["/upkeep/load", page(() => import("./features/upkeep/LoadPage").then((m) => m.LoadPage))],
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
              {PAGES.map(([path, Page]) => (
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
