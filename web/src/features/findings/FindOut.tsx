import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { queries } from "../../api/queries";
import { Pick } from "../../shared/Pick";
import { METRIC_OF } from "../trials/metrics";

/** From a comparison that is no experiment to one that is: by an hour trial where hours are compared, otherwise by a trial of a draft's variants. */
export function FindOut({ figure, hours }: { figure: Schemas["FigureDefinition"]; hours: boolean }) {
  const navigate = useNavigate();
  const mailings = useQuery(queries.mailings).data ?? [];
  const metric = METRIC_OF[figure.key];
  const asks = (question: string) => new URLSearchParams({ question, ...(metric && { metric }) }).toString();
  if (hours)
    return (
      <Link to={`/trials/hours/new?${asks(`Does the hour matter for ${figure.name.toLowerCase()}?`)}`}>
        Find out by an hour trial
      </Link>
    );
  const drafts = mailings.filter(
    (m) => m.state === "draft" && m.variants > 1 && m.trial_id == null && !m.template && !m.archived,
  );
  if (drafts.length === 0)
    return (
      <>
        A trial would tell: <Link to="/mailings/new">write a mailing with two subjects</Link>
      </>
    );
  const question = `Which variant earns more ${figure.name.toLowerCase()}?`;
  return (
    <>
      Find out by a trial of{" "}
      <Pick
        label="Find out by a trial of"
        value=""
        options={[["", "a draft …"], ...drafts.map((m) => [String(m.id), m.name] as const)]}
        onChange={(id) => id !== "" && void navigate(`/trials/plan/${id}?${asks(question)}`)}
      />
    </>
  );
}
