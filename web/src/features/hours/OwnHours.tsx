import { type Schemas } from "../../api/client";
import { count, percent } from "../../shared/format";
import { hourOf } from "./hours";

/** What share of people has an hour of their own, and what is expected of it. */
export function OwnHours({ each }: { each: Schemas["OwnHoursOfEach"] }) {
  return (
    <dl className="facts">
      <dt>Have another hour than {hourOf(each.common)}</dt>
      <dd>
        {count(each.differ)} of {count(each.people)} people, {percent(each.differ / Math.max(1, each.people), 0)}
      </dd>
      <dt>Expected at their own hours</dt>
      <dd>{percent(each.at_own)}</dd>
      <dt>Expected at {hourOf(each.common)} for all</dt>
      <dd>{percent(each.at_common)}</dd>
    </dl>
  );
}
