import { Link } from "react-router";
import type { Schemas } from "../../api/client";

/** What a new installation needs before it sends, as it stands. It goes once it is done. */
export function FirstSteps({ steps }: { steps: Schemas["FirstStep"][] }) {
  if (steps.length === 0) return null;
  return (
    <section aria-label="First steps">
      <h2>First steps</h2>
      <ul style={{ listStyle: "none", margin: 0, padding: 0, maxWidth: "52em" }}>
        {steps.map((s) => (
          <li
            key={s.title}
            style={{
              display: "grid",
              gridTemplateColumns: "5em 1fr auto",
              gap: 12,
              alignItems: "baseline",
              borderTop: "1px solid var(--rule)",
              padding: "9px 0",
            }}
          >
            <span className="soft small">{s.done ? "done" : s.optional ? "can wait" : "to do"}</span>
            <span>
              <b>{s.title}</b>
              <span className="soft"> {s.words}</span>
            </span>
            {s.done ? <span /> : <Link to={s.link}>{s.action}</Link>}
          </li>
        ))}
      </ul>
    </section>
  );
}
