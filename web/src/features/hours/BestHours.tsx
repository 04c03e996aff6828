import { Link } from "react-router";
import { type Schemas } from "../../api/client";
import { count, date, points } from "../../shared/format";
import { hourOf } from "./hours";

/** The hours that were learned: for whom, by which trial, until when. The narrowest audience that somebody is of counts. */
export function BestHours({ learned }: { learned: Schemas["LearnedHour"][] }) {
  return (
    <div>
      {learned.length === 0 && <p className="note">No best hour is known any more: all get it at the hour below.</p>}
      {learned.map((l) => (
        <p key={l.trial} style={{ margin: "0 0 4px" }}>
          <b>{hourOf(l.hour)}</b> for {l.audience} ({count(l.people)} were drawn), learned {date(l.learned_at)} by{" "}
          <Link to={`/trials/hours/${l.trial}`}>{l.question}</Link>{" "}
          <span className="soft small">
            on {l.weekdays}; used until {date(l.expires_at)}
            {l.gain
              ? `; it gains ${points(l.gain.difference)} points, ${points(l.gain.lower)} to ${points(l.gain.upper)}`
              : "; what it gains isn’t confirmed"}
          </span>
        </p>
      ))}
      {learned.length > 1 && (
        <p className="soft small" style={{ margin: 0 }}>
          Who is of several audiences goes by the first of them here, the narrowest.
        </p>
      )}
    </div>
  );
}
