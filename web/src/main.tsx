import "@fontsource-variable/atkinson-hyperlegible-next";
import { CssBaseline, ThemeProvider } from "@mui/material";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Navigate, RouterProvider } from "react-router";
import "./app/frame.css";
import { Shell } from "./app/Shell";
import { theme } from "./app/theme";
import { AddPage } from "./features/contacts/AddPage";
import { BaseCheckPage } from "./features/contacts/BaseCheckPage";
import { ContactPage } from "./features/contacts/ContactPage";
import { ContactsPage } from "./features/contacts/ContactsPage";
import { ImportPage } from "./features/contacts/ImportPage";
import { ImportRunPage } from "./features/contacts/ImportRunPage";
import { WordsPage } from "./features/contacts/WordsPage";
import { CapGuidePage } from "./features/clearance/CapGuidePage";
import { RulesPage } from "./features/clearance/RulesPage";
import { SluicePage } from "./features/clearance/SluicePage";
import { DomainsPage } from "./features/clearance/DomainsPage";
import { SuppressionListPage, SuppressionPage } from "./features/clearance/SuppressionPage";
import { HoldoutPage } from "./features/clearance/HoldoutPage";
import { ForecastPage } from "./features/clearance/ForecastPage";
import { WhyPage } from "./features/clearance/WhyPage";
import { ClearanceHome } from "./features/clearance/ClearanceHome";
import { ConsentPage } from "./features/clearance/ConsentPage";
import { FindingsPage } from "./features/findings/FindingsPage";
import { GrowthPage } from "./features/guides/GrowthPage";
import { RecencyPage } from "./features/guides/RecencyPage";
import { SourcesPage } from "./features/guides/SourcesPage";
import { CalendarPage } from "./features/mailings/CalendarPage";
import { ComparePage } from "./features/mailings/ComparePage";
import { LetterheadPage } from "./features/mailings/LetterheadPage";
import { MailingPage } from "./features/mailings/MailingPage";
import { MailingsHome } from "./features/mailings/MailingsHome";
import { SeriesHome } from "./features/series/SeriesHome";
import { SeriesPage } from "./features/series/SeriesPage";
import { SeriesPeoplePage } from "./features/series/SeriesPeoplePage";
import { SegmentPage } from "./features/segments/SegmentPage";
import { SegmentsPage } from "./features/segments/SegmentsPage";
import { ReactionPage } from "./features/reactions/ReactionPage";
import { ReactionsPage } from "./features/reactions/ReactionsPage";
import { ScoresPage } from "./features/reactions/ScoresPage";
import { WebhooksPage } from "./features/reactions/WebhooksPage";
import { TodayPage } from "./features/today/TodayPage";
import { LearnedPage } from "./features/trials/LearnedPage";
import { OutsidePage } from "./features/trials/OutsidePage";
import { PlanPage } from "./features/trials/PlanPage";
import { TrialPage } from "./features/trials/TrialPage";
import { TrialsHome } from "./features/trials/TrialsHome";
import { LoadPage } from "./features/upkeep/LoadPage";
import { UpkeepPage } from "./features/upkeep/UpkeepPage";

const client = new QueryClient({ defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false } } });

const router = createBrowserRouter([
  {
    element: <Shell />,
    children: [
      { path: "/", element: <Navigate to="/today" replace /> },
      { path: "/today", element: <TodayPage /> },
      { path: "/contacts", element: <ContactsPage /> },
      { path: "/contacts/import", element: <ImportPage /> },
      { path: "/contacts/import/:id", element: <ImportRunPage /> },
      { path: "/contacts/add", element: <AddPage /> },
      { path: "/contacts/recency", element: <RecencyPage /> },
      { path: "/contacts/growth", element: <GrowthPage /> },
      { path: "/contacts/sources", element: <SourcesPage /> },
      { path: "/contacts/check", element: <BaseCheckPage /> },
      { path: "/contacts/words", element: <WordsPage /> },
      { path: "/contacts/segments", element: <SegmentsPage /> },
      { path: "/contacts/segments/:id", element: <SegmentPage /> },
      { path: "/contacts/:id", element: <ContactPage /> },
      { path: "/clearance", element: <ClearanceHome /> },
      { path: "/clearance/rules", element: <RulesPage /> },
      { path: "/clearance/domains", element: <DomainsPage /> },
      { path: "/clearance/suppression", element: <SuppressionPage /> },
      { path: "/clearance/suppression/:id", element: <SuppressionListPage /> },
      { path: "/clearance/cap-guide", element: <CapGuidePage /> },
      { path: "/clearance/forecast", element: <ForecastPage /> },
      { path: "/clearance/consent", element: <ConsentPage /> },
      { path: "/clearance/holdout", element: <HoldoutPage /> },
      { path: "/clearance/:id", element: <SluicePage /> },
      { path: "/clearance/:id/person/:contact", element: <WhyPage /> },
      { path: "/mailings", element: <MailingsHome /> },
      { path: "/mailings/calendar", element: <CalendarPage /> },
      { path: "/mailings/compare", element: <ComparePage /> },
      { path: "/mailings/letterheads/:id", element: <LetterheadPage /> },
      { path: "/mailings/reactions", element: <ReactionsPage /> },
      { path: "/mailings/reactions/:id", element: <ReactionPage /> },
      { path: "/mailings/scores", element: <ScoresPage /> },
      { path: "/mailings/webhooks", element: <WebhooksPage /> },
      { path: "/mailings/:id", element: <MailingPage /> },
      { path: "/trials", element: <TrialsHome /> },
      { path: "/trials/plan/:mailing", element: <PlanPage /> },
      { path: "/trials/learned", element: <LearnedPage /> },
      { path: "/trials/outside", element: <OutsidePage /> },
      { path: "/trials/:id", element: <TrialPage /> },
      { path: "/series", element: <SeriesHome /> },
      { path: "/series/:id", element: <SeriesPage /> },
      { path: "/series/:id/people", element: <SeriesPeoplePage /> },
      { path: "/findings", element: <FindingsPage /> },
      { path: "/upkeep", element: <UpkeepPage /> },
      { path: "/upkeep/load", element: <LoadPage /> },
      { path: "*", element: <Navigate to="/today" replace /> },
    ],
  },
]);

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <ThemeProvider theme={theme}>
      <CssBaseline />
      <QueryClientProvider client={client}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </ThemeProvider>
  </StrictMode>,
);
