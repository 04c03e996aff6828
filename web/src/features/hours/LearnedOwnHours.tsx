import { Link } from "react-router";
import { type Schemas } from "../../api/client";
import { count, date, points } from "../../shared/format";
import { hourOf } from "./hours";

/** The hours of people's own that were learned: of how many, by which trial, until when. */
export function LearnedOwnHours({ learned }: { learned: Schemas["LearnedOwn"][] }) {
  return (
    <div>
      {learned.length === 0 && <p className="note">Nobody’s own hour is known any more.</p>}
      {learned.map((l) => (
        <p key={l.trial} style={{ margin: "0 0 4px" }}>
          <b>Their own hours</b> of {count(l.each.people)} people ({l.audience}), of whom {count(l.each.differ)} have
          another than {hourOf(l.each.common)}, learned {date(l.learned_at)} by{" "}
          <Link to={`/trials/hours/${l.trial}`}>{l.question}</Link>{" "}
          <span className="soft small">
            on {l.weekdays}; used until {date(l.expires_at)}
            {l.gain
              ? `; for those ${count(l.each.differ)} they gain ${points(l.gain.difference)} points, ${points(l.gain.lower)} to ${points(l.gain.upper)}`
              : "; what they gain isn’t confirmed"}
          </span>
        </p>
      ))}
      <p className="soft small" style={{ margin: 0 }}>
        Who wasn’t drawn goes by the best hour of their audience, where one is known, else by the hour below.
      </p>
    </div>
  );
}
