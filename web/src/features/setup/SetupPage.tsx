import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import { queries } from "../../api/queries";
import { Frame } from "../../app/Frame";
import { plural } from "../../shared/format";
import { useVocabulary } from "../../shared/useVocabulary";
import { Memory } from "./Memory";
import { useSetupSlips } from "./useSetupSlips";

/** What is set up once, and how each of it stands. */
export function SetupPage() {
  const slips = useSetupSlips();
  const letterheads = useQuery(queries.letterheads).data;
  const goals = useQuery(queries.goals).data;
  const rule = useQuery(queries.attribution).data;
  const people = useQuery(queries.people).data;
  const webhooks = useQuery(queries.webhooks).data;
  const vocabulary = useVocabulary().data;
  const approvers = people?.filter((p) => p.role === "approver").length ?? 0;
  const live = webhooks?.filter((w) => !w.ended_at).length ?? 0;
  const rows: [to: string, name: string, what: string, stands: ReactNode][] = [
    [
      `/setup/letterheads/${letterheads?.[0]?.id ?? 0}`,
      "Letterheads",
      "who writes, from which address, with which keys",
      letterheads?.length ? (
        letterheads.map((l) => l.name).join(", ")
      ) : (
        <span className="wait">none: nothing can be written yet</span>
      ),
    ],
    [
      "/setup/goals",
      "Goals and attribution",
      "what counts as a conversion, and which click it is put down to",
      goals?.length ? (
        `${goals.map((g) => g.name).join(", ")}; ${rule?.by === "first_click" ? "first" : "last"} click within ${plural(rule?.days ?? 0, "day")}`
      ) : (
        <span className="wait">none: nobody can say what mail brought</span>
      ),
    ],
    [
      "/setup/words",
      "Fields and labels",
      "what is known of people; what mailings are called by",
      vocabulary ? `${plural(vocabulary.fields.length, "field")}, ${plural(vocabulary.labels.length, "label")}` : "",
    ],
    [
      "/setup/people",
      "People",
      "who works with Rinse, and who may let an exception through",
      people ? `${plural(people.length, "person", "people")}, ${plural(approvers, "approver")}` : "",
    ],
    [
      "/setup/systems",
      "Other systems",
      "who is told what happens, and where mail comes in",
      live ? plural(live, "webhook") : "none",
    ],
    ["/upkeep/record-system", "Record system", "a nightly file of who must not come back", ""],
  ];
  return (
    <Frame slips={slips}>
      <div className="crumb">
        <span>Setup</span>
      </div>
      <h1>What is set up once</h1>
      <p className="finding">
        {letterheads?.length === 0 ? (
          <>
            <em>No letterhead</em> is there yet: messages take their sender from one.
          </>
        ) : (
          <>
            <em>{plural(letterheads?.length ?? 0, "letterhead")}</em> to write under,{" "}
            {plural(goals?.length ?? 0, "goal")} to write for.
          </>
        )}
      </p>
      <dl className="facts">
        {rows.map(([to, name, what, stands]) => [
          <dt key={to}>
            <Link to={to}>{name}</Link>
          </dt>,
          <dd key={name}>
            {stands} <span className="soft small">{what}</span>
          </dd>,
        ])}
      </dl>
      <Memory />
    </Frame>
  );
}
